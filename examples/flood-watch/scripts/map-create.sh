#!/bin/sh
set -e
echo "unpack tiles"
mkdir -p /srv/www/map
sleep 2
