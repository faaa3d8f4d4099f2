for word in $(cat pond.conf); do [ $word = start ] || ids="$ids $word"; done
echo ready
exec 9>>world/lock
while read line; do case $line in stop) exit 0;; list) for id in $ids; do echo "- $id"; done; echo all;; esac; done
