mkdir -p /srv/www
echo levels >/srv/www/index.html
httpd -p 8080 -h /srv/www
