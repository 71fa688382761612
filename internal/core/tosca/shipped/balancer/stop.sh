#!/bin/sh
AT=${BALANCER:-/etc/haproxy/andamio}
if test -f "$AT/haproxy.pid"; then
	kill "$(cat "$AT/haproxy.pid")" 2>/dev/null
	rm -f "$AT/haproxy.pid"
fi
exit 0
