#!/bin/sh
# A name may have dots, which names of servers may have too.
set -e
AT=${BALANCER:-/etc/haproxy/andamio}
echo "	server $MEMBER $ADDRESS:$PORT" >"$AT/members/$MEMBER"
. /var/lib/andamio/balance.sh
