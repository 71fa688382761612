#!/bin/sh
# Makes the store's folders on the attached volume.
set -e
echo "lay out $HOME_DIR"
mkdir -p "$HOME_DIR/lines" /opt/store
sleep 4
