#!/bin/sh
# Takes HAProxy from the image, or from the system's packages where it is not there.
set -e
haproxy -v >/dev/null 2>&1 || apt-get install -y --no-install-recommends haproxy
AT=${BALANCER:-/etc/haproxy/andamio}
mkdir -p "$AT/members"
