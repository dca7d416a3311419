#!/bin/sh
# Installs from Debian's packages what is named and missing. Installs nothing where all of it is there already.
# usage: install-packages.sh PACKAGE...
set -eu

missing=""
for package in "$@"; do
  dpkg-query -W -f='${Status}' "$package" 2>/dev/null | grep -q '^install ok installed$' || missing="$missing $package"
done
[ -n "$missing" ] || exit 0

if [ "$(id -u)" -ne 0 ]; then
  echo "These Debian packages are missing:$missing" >&2
  echo "Install them as root (apt-get install$missing), then run the command again." >&2
  exit 1
fi

# Debian's PostgreSQL makes and starts a database cluster of its own on installation. Nobody asked for one here, so it is held
# back for this installation only.
hold=/etc/postgresql-common/createcluster.d/kettle-tarn.conf
if [ ! -e /etc/postgresql-common/createcluster.d ]; then
  mkdir -p /etc/postgresql-common/createcluster.d
fi
trap 'rm -f "$hold"' EXIT
echo "create_main_cluster = false" >"$hold"

echo "Installing from Debian's packages:$missing"
export DEBIAN_FRONTEND=noninteractive
apt-get update -qq
# shellcheck disable=SC2086
apt-get install -y -qq --no-install-recommends $missing >/dev/null
