#!/bin/sh
set -e
echo "key-of-$SOURCE_NAME-$STRENGTH" > "/srv/keys/$SOURCE_NAME"
echo "let in $SOURCE_NAME"
