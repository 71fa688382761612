#!/bin/sh
set -e
mkdir -p /srv/www
text=$(wget -q -O - "$SOURCE_URL")
echo "<h1>$text</h1><p>read at $SAME</p>" > /srv/www/index.html
httpd -p "$PORT" -h /srv/www
