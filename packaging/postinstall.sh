#!/bin/sh
# The service is neither enabled nor started: the configuration is still that of the sample.
set -e
chgrp dexamen /etc/dexamen/dexamen.yaml || true
if [ -d /run/systemd/system ]; then systemctl daemon-reload || true; fi
echo "dexamen: write /etc/dexamen/dexamen.yaml, check it with: dexamen config check, then: systemctl enable --now dexamen"
