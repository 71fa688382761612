#!/bin/sh
# Has HAProxy go on with the members that there are now. Connections that are open are served to their end by the one before.
set -e
AT=${BALANCER:-/etc/haproxy/andamio}
cat "$AT/head.cfg" >"$AT/haproxy.new"
for member in $(ls "$AT/members"); do
	cat "$AT/members/$member" >>"$AT/haproxy.new"
done
haproxy -c -f "$AT/haproxy.new" >/dev/null
mv "$AT/haproxy.new" "$AT/haproxy.cfg"
before=
if test -f "$AT/haproxy.pid" && kill -0 "$(cat "$AT/haproxy.pid")" 2>/dev/null; then
	before="-sf $(cat "$AT/haproxy.pid")"
fi
haproxy -D -f "$AT/haproxy.cfg" -p "$AT/haproxy.pid" $before </dev/null >/dev/null 2>&1
