#!/bin/sh
set -e
KEY=$(echo "$SOURCE_NAME" | nc $STORE)
echo "took a key"
