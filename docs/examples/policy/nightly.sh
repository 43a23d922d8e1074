#!/bin/sh
# Every night: is policy still what the file says? Status 3 and the lines that differ where somebody changed it elsewhere.
set -eu
wexillum differs policy.yaml
