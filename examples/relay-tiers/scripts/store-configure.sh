#!/bin/sh
# Whoever is let in has a file by now.
set -e
MOTTO="high water, $(($(ls /srv/keys | wc -l))) relays"
cat > /opt/store/answer <<END
read -r who
cat "/srv/keys/\$who"
END
