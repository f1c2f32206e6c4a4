#!/bin/sh
# The last job of a pipeline: carries out what was saved, after somebody has agreed to it with
#   brickrow approve FOLDER/change.json
#   2-deploy.sh FOLDER
# It ends with 0 when all is done, 1 when it was refused, 4 when it failed and was undone, 5 when it is stuck.
set -eu
brickrow deploy "$1/change.json" --yes --accept data
