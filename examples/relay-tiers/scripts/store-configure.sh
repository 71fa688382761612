#!/bin/sh
# Whoever is let in has a file by now.
set -e
MOTTO="high water, $(($(ls /srv/keys | wc -l))) relays"
cat > /opt/store/answer <<END
#!/bin/sh
read -r who
cat "/srv/keys/\$who"
END
chmod 755 /opt/store/answer
