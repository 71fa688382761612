#!/bin/sh
set -e
mkdir -p /opt/relay
printf '#!/bin/sh\nread -r who\necho "$who" | nc %s\n' "$STORE" >/opt/relay/answer
chmod 755 /opt/relay/answer
sync
