#!/bin/sh
set -e
SERIAL="quiet-$VOLUME"
echo "volume $VOLUME"
