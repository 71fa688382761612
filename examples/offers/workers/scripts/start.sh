#!/bin/sh
set -e
fuser -k 8085/tcp >/dev/null 2>&1 || true # what an earlier start left
httpd -p 8085 -h /var/lib/levels/page
