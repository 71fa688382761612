#!/bin/sh
echo "noted $SOURCE_NAME on $(hostname)"
