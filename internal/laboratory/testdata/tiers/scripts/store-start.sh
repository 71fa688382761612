#!/bin/sh
set -e
fuser -k 5440/tcp >/dev/null 2>&1 || true # what an earlier start left
nc -ll -p 5440 -e /opt/store/answer </dev/null >/dev/null 2>&1 &
