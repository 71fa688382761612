#!/bin/sh
set -e
echo "$WHERE|$MINOR|$LATE|$HOSTS|$SECOND|$KEEPER|$CORES|$RELEASE|$ALL" > /srv/www/index.html
httpd -p 8080 -h /srv/www
