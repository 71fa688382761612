#!/bin/sh
set -e
mkdir -p /opt/relay
test -n "$KEY"
cat > /opt/relay/answer <<END
read -r who
echo "$MOTTO with $KEY"
END
