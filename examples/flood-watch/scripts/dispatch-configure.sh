#!/bin/sh
# Reads the register and the forecast, and prepares the warnings from both.
set -e
people=$(echo first | nc "$REGISTER_ADDRESS" "$REGISTER_PORT")
next=$(wget -q -O - "$FORECAST_URL")
sleep 2
echo "to warn: $people" > /srv/dispatch/warnings
echo "forecast: $next" >> /srv/dispatch/warnings
echo "warnings prepared for $people"
