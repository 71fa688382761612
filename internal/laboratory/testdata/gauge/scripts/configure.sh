#!/bin/sh
set -e
[ -f /srv/www/index.html ] || echo "$FIRST" >/srv/www/index.html
sync
