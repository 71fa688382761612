#!/bin/sh
set -e
mkdir -p /srv/lines /opt/lines
echo "first line" > /srv/lines/first
