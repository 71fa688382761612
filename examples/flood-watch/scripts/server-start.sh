#!/bin/sh
set -e
sleep 1
fuser -k "$PORT/tcp" >/dev/null 2>&1 || true # what an earlier start left
httpd -p "$PORT" -h /srv/www
echo "serving /srv/www on $PORT"
