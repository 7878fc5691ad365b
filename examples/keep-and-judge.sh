#!/usr/bin/env bash
# For a build server: has any of these scenes changed its picture, its counted work or its time since
# they were kept? Exit code 1 where one has. The first run keeps them.
#
#   examples/keep-and-judge.sh FOLDER SCENE...
#
# PHOTONLANE names the tool where it is not on the path; SIZE the frames' size.
set -euo pipefail
if [ $# -lt 2 ]; then
  echo "usage: $0 FOLDER SCENE..." >&2
  exit 2
fi
photonlane=${PHOTONLANE:-photonlane}
folder=$1
shift
if [ ! -e "$folder/kept.json" ]; then
  "$photonlane" keep "$@" --size "${SIZE:-320x200}" -o "$folder"
else
  # Pictures may be off by what no eye sees; work by 1 %, time by 15 % beyond noise.
  "$photonlane" judge "$folder" --limit rmse=0.0005 --more-work 1 --slower 15
fi
