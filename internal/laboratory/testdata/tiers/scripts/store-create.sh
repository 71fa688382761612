#!/bin/sh
set -e
mkdir -p /srv/levels /opt/store
