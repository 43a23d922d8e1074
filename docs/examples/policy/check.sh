#!/bin/sh
# For a proposal: what would policy.yaml change, and for whom? It fails where more would be gained or lost than may be, so that
# somebody looks before it is merged. Nothing is published, and the draft is given up again.
#
# WEXILLUM_SERVER names the service. The account that is signed in is an administrator's.
set -eu

max_gained=${MAX_GAINED:-0}
max_lost=${MAX_LOST:-1000}
name="proposal-$$"

wexillum differs policy.yaml || [ $? -eq 3 ] # 3: it is not yet what the file says

wexillum draft new "$name" >/dev/null
trap 'wexillum draft drop "$name" >/dev/null' EXIT
wexillum load policy.yaml --exact --draft "$name" >/dev/null
wexillum draft impact "$name" --max-gained "$max_gained" --max-lost "$max_lost"
wexillum expect run --draft "$name"
