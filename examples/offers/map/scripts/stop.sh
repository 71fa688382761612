#!/bin/sh
fuser -k 8085/tcp >/dev/null 2>&1 || true
