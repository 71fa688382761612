#!/bin/sh
# Unpacks the intake and makes its folders.
set -e
echo "unpack intake"
mkdir -p /srv/intake /etc/intake
sleep 3
echo "waiting for the first gauge" > /srv/intake/level
