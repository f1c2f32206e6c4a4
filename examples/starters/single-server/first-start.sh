#!/bin/sh
# Runs once, when the server starts for the first time.
echo "hut server of Kestrel Ridge, ready since $(date)" > /etc/motd
