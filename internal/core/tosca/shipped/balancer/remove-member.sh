#!/bin/sh
set -e
AT=${BALANCER:-/etc/haproxy/andamio}
rm -f "$AT/members/$MEMBER"
. /var/lib/andamio/balance.sh
