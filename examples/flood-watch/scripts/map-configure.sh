#!/bin/sh
# Writes the page from what the forecast and the dispatch really answer.
set -e
next=$(wget -q -O - "$FORECAST_URL")
warnings=$(wget -q -O - "$WARNINGS_URL")
sleep 2
cat > /srv/www/map/index.html <<END
<!doctype html>
<title>$TITLE</title>
<h1>$TITLE</h1>
<p>$next</p>
<pre>$warnings</pre>
END
echo "the page is written"
