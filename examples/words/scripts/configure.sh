#!/bin/sh
set -e
. /var/lib/andamio/lib.sh
CHECKED="$(heading "$TABLE") $SUM $(cat "$NOTES")"
