#!/bin/sh
# What the balancer is for all members alike. Members are files beside it, which are put together when it is read again.
set -e
AT=${BALANCER:-/etc/haproxy/andamio}
mkdir -p "$AT/members"
{
	echo "global"
	echo "	maxconn 4096"
	echo "defaults"
	echo "	mode $PROTOCOL"
	echo "	timeout connect 5s"
	echo "	timeout client 1m"
	echo "	timeout server 1m"
	echo "	retries 2"
	echo "	option redispatch 1"
	echo "frontend client"
	echo "	bind *:$PORT"
	echo "	default_backend members"
	echo "backend members"
	echo "	balance $ALGORITHM"
	if test "$PROTOCOL" = http; then
		echo "	option forwardfor"
		echo "	option httpchk GET $LOOK"
	fi
	echo "	default-server check inter 1s fastinter 500ms fall 2 rise 2 slowstart 10s"
} >"$AT/head.cfg"
