#!/bin/sh
set -e
[ -f /srv/levels/now ] || echo "$FIRST" >/srv/levels/now
printf '#!/bin/sh\nread -r who\ncat /srv/levels/now\n' >/opt/store/answer
chmod 755 /opt/store/answer
sync
