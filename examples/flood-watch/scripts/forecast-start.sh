#!/bin/sh
set -e
echo "warming the model"
sleep 3
httpd -p "$PORT" -h /srv/forecast
