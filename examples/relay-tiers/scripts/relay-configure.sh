#!/bin/sh
set -e
mkdir -p /opt/relay
test -n "$KEY"
cat > /opt/relay/answer <<END
#!/bin/sh
read -r who
echo "$MOTTO with $KEY"
END
chmod 755 /opt/relay/answer
