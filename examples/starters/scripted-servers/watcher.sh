#!/bin/sh
# Runs once, when a watcher starts for the first time.
set -eu
echo "watching" >/run/watcher
