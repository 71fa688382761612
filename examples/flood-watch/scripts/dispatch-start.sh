#!/bin/sh
set -e
sleep 3
httpd -p "$PORT" -h /srv/dispatch
