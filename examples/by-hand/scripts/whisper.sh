#!/bin/sh
set -e
echo "psst"
