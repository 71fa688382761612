#!/bin/sh
set -e
cat > /opt/lines/answer <<END
read -r wanted
cat "/srv/lines/\$wanted"
END
nc -lk -p "$PORT" -e /opt/lines/answer
