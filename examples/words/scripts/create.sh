#!/bin/sh
set -e
mkdir -p /srv/www
SUM=$((40 + 2))
