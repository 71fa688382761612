#!/bin/sh
# Runs a command whose temporary files are in memory where the machine has room for that, and removes what it leaves there. A disk
# that others keep busy makes a journal wait for it, which tells nothing about the program. Where there is no such memory, or nothing may
# be run in it, the files are where they always are.
enough=4000000 # KiB
dir=$(mktemp -d /dev/shm/XXXXXX 2>/dev/null) || exec "$@"
chmod 711 "$dir" # a database is somebody else's, who passes through
trap 'chmod -R u+w "$dir"; rm -rf "$dir"' EXIT
trap 'exit 1' INT TERM
printf '#!/bin/sh\n' >"$dir/probe"
chmod +x "$dir/probe"
if [ "$(df -Pk "$dir" | awk 'NR == 2 { print $4 }')" -gt $enough ] && "$dir/probe" 2>/dev/null; then
	TMPDIR=$dir
	export TMPDIR
fi
"$@"
