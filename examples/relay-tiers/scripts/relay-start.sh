#!/bin/sh
set -e
nc -lk -p "$PORT" -e /opt/relay/answer
