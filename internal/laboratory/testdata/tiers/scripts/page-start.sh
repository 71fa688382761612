#!/bin/sh
set -e
mkdir -p /srv/www
echo page | nc $RELAY >/srv/www/index.html
test -s /srv/www/index.html
fuser -k 8080/tcp >/dev/null 2>&1 || true # what an earlier start left
httpd -p 8080 -h /srv/www
