#!/bin/sh
set -e
echo "unpack dispatch"
mkdir -p /srv/dispatch
sleep 3
