#!/bin/sh
set -e
echo "lay out /srv/www"
mkdir -p /srv/www
sleep 2
