#!/bin/sh
set -e
mkdir -p /srv/keys /opt/store
