#!/bin/sh
set -e
sleep 1
httpd -p "$PORT" -h /srv/www
echo "serving /srv/www on $PORT"
