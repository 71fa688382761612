#!/bin/sh
# Writes the first line, unless the log has lines already.
set -e
if [ ! -f /var/lib/levels/page/levels/index.html ]; then
  echo "$FIRST" > /var/lib/levels/page/levels/index.html
fi
