#= gauge is 7101:7200 7200
#= gauge at /data volume ? ? rw,nosuid,nodev
#= herald at /publish bind ? ? ro,nosuid
podman run --replace --userns=host --umask=0022 --user=7101:7200 --volume=readings:/data:nosuid,U --env X='a b' --name=gauge tides/gauge:1
if true; then
	podman create --name herald \
		--cap-drop all \
		-v/srv/publish:/publish:ro,nosuid \
		tides/herald
fi
