#!/bin/sh
# Sends a reading as CSV. EBREL is the server, NODE the node's number, KEY its key.
set -eu
now=$(date -u +%Y-%m-%dT%H:%M:%SZ)
curl --silent --show-error --fail-with-body "$EBREL/api/v1/nodes/$NODE/readings" \
  --header "Authorization: Bearer $KEY" --header "Content-Type: text/csv" \
  --data-binary "time,port,quantity,value,unit
$now,A1,raw_output,812.5,mV
"
