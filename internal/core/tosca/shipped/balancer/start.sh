#!/bin/sh
set -e
. /var/lib/andamio/balance.sh
