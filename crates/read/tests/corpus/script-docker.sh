#!/bin/sh
#= gauge is 7101:7200 7200,7300
#= gauge at /data volume ? ? rw
#= gauge at /etc/tides bind ? ? ro
#= gauge at /scratch tmpfs ? ? ro,noexec,nosuid,nodev
#= herald is 0:0 0
#= herald at /publish bind ? ? rw
#= press at /data bind ? ? ro
set -eu
docker run -d --name gauge \
  -u 7101:7200 --group-add=7300 \
  --cap-drop ALL --cap-add CHOWN \
  -v readings:/data -v "/srv/conf":/etc/tides:ro \
  --tmpfs /scratch:size=64m,ro \
  --read-only \
  tides/gauge:1 --every 10s   # the one that measures
docker container run --user=0:0 --mount type=bind,src=/srv/publish,dst=/publish,readonly=false -- tides/herald
docker run --mount "type=bind,source=/srv/data,target=/data,readonly" -itu'5' tides/press sh -c 'id; docker run other'
