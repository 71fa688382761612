#!/bin/sh
set -e
mkdir -p /srv/www
echo hello | nc $RELAY > /srv/www/index.html
httpd -p "$PORT" -h /srv/www
