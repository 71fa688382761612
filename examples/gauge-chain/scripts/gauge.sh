#!/bin/sh
set -e
mkdir -p /srv/www
echo "level 3.40 m" > /srv/www/index.html
httpd -p "$PORT" -h /srv/www
