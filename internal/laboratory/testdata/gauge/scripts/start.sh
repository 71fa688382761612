#!/bin/sh
set -e
fuser -k 8080/tcp >/dev/null 2>&1 || true # what an earlier start left
httpd -p 8080 -h /srv/www
