#!/bin/sh
set -e
sleep 3
fuser -k "$PORT/tcp" >/dev/null 2>&1 || true # what an earlier start left
httpd -p "$PORT" -h /srv/dispatch
