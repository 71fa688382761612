#!/bin/sh
# Tells the intake where readings go, and proves that they arrive there.
set -e
echo "readings go to $READINGS_ADDRESS:$READINGS_PORT"
echo "store=$READINGS_ADDRESS:$READINGS_PORT" > /etc/intake/intake.conf
sleep 2
first=$(echo first | nc "$READINGS_ADDRESS" "$READINGS_PORT")
echo "the store says: $first"
echo "$first" > /srv/intake/level
