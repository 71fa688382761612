#!/bin/sh
set -e
echo "HIGH WATER"
