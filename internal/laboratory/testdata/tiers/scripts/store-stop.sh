#!/bin/sh
fuser -k 5440/tcp >/dev/null 2>&1 || true
sync
