#!/bin/sh
fuser -k 8080/tcp >/dev/null 2>&1 || true
sync
