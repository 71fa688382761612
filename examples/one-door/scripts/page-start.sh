#!/bin/sh
set -e
mkdir -p /srv/www
echo "answered by $(hostname)" > /srv/www/index.html
cat > /srv/www/metrics <<END
# TYPE page_words gauge
# HELP page_words Words on the page.
page_words 3
# TYPE page_size_bytes gauge
# UNIT page_size_bytes bytes
page_size_bytes{language="en"} $(wc -c < /srv/www/index.html)
# TYPE page_asked counter
page_asked_total 12
# EOF
END
httpd -p "$PORT" -h /srv/www
