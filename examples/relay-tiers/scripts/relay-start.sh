#!/bin/sh
set -e
nc -ll -p "$PORT" -e /opt/relay/answer </dev/null >/dev/null 2>&1 &
