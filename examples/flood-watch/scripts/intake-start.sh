#!/bin/sh
set -e
echo "opening tcp $PORT"
sleep 3
httpd -p "$PORT" -h /srv/intake
