#!/bin/sh
# For what was merged: publish policy.yaml, with the commit as the reason. Nothing happens where policy is that already.
set -eu

if wexillum differs policy.yaml; then
	exit 0
elif [ $? -ne 3 ]; then
	exit 1
fi
why=${WHY:-$(git log -1 --format='%h %s')}
wexillum draft new "$why" >/dev/null
wexillum load policy.yaml --exact --draft "$why" >/dev/null
wexillum draft publish "$why" --why "$why" --yes
wexillum differs policy.yaml
