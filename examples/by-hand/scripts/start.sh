#!/bin/sh
set -e
echo "siren ready" > /srv/www/index.html
httpd -p 8085 -h /srv/www
