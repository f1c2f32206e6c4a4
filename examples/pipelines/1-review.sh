#!/bin/sh
# The first job of a pipeline: looks at a change and saves it, for a person to agree to.
#   1-review.sh STACKFILE FOLDER
# In FOLDER are then findings.sarif, review.md (a comment for the review) and change.json, which the job
# 2-deploy.sh carries out exactly. Where an earlier change.json lies there, review.md says what has become
# another since. BRICKROW_JOB may name this job; it is kept with the run.
set -eu
stack=$1 folder=$2
mkdir -p "$folder"
if ! brickrow check "$stack" --sarif >"$folder/findings.sarif"; then
	brickrow check "$stack"
	exit 1
fi
since=
if [ -f "$folder/change.json" ]; then
	mv "$folder/change.json" "$folder/before.json"
	rm -f "$folder"/change.json.approval-*
	since="--since $folder/before.json"
fi
# shellcheck disable=SC2086
brickrow whatif "$stack" --markdown --save "$folder/change.json" $since >"$folder/review.md"
