#!/bin/sh
set -e
mkdir -p /srv/www
