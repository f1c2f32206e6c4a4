#!/bin/sh
# Runs once, when the keeper starts for the first time.
set -eu
mkdir -p /var/lib/seen
echo "ready to keep what is seen" >/var/lib/seen/state
