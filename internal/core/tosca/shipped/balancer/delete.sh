#!/bin/sh
AT=${BALANCER:-/etc/haproxy/andamio}
rm -rf "$AT"
