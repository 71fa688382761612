#!/bin/sh
# Makes the folder of the page on the attached volume.
set -e
mkdir -p /var/lib/levels/page/levels
