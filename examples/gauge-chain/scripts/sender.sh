#!/bin/sh
# A warning is made of a real level and a real line of the store.
set -e
level=$(wget -q -O - "$LEVELS_URL")
line=$(echo first | nc $STORE)
mkdir -p /srv/www
echo "warning: $level ($line)" > /srv/www/warning
httpd -p "$PORT" -h /srv/www
