#!/bin/sh
set -e
mkdir -p /srv/www
echo "answered by $(hostname)" > /srv/www/index.html
httpd -p "$PORT" -h /srv/www
