#!/bin/sh
set -e
echo "opening tcp $PORT"
sleep 3
fuser -k "$PORT/tcp" >/dev/null 2>&1 || true # what an earlier start left
httpd -p "$PORT" -h /srv/intake
