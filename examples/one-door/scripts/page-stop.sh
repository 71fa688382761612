#!/bin/sh
fuser -k "$PORT/tcp"
