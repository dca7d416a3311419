#!/bin/sh
# Installs the Debian packages of this machine's architecture by apt, looks at what is there, removes them, and looks at what is left. As root.
set -eu

cd dist/packages
sha256sum --quiet -c SHA256SUMS
arch=$(dpkg --print-architecture)
say() { echo "packages: $*"; }
wrong() {
  say "$*" >&2
  exit 1
}

apt-get install -y -qq --no-install-recommends "./$(ls kettle-tarn_*_"$arch".deb)" "./$(ls kettle-tarn-service_*_"$arch".deb)" >/dev/null
for said in "$(/usr/bin/tarn --version)" "$(/usr/bin/tarnd version)"; do
  case $said in
  *"$(dpkg-query -W -f '${Version}' kettle-tarn)"*) echo "$said" ;;
  *) wrong "a program is not of its package's version: $said" ;;
  esac
done
getent passwd tarnd >/dev/null || wrong "the service has no user"
[ "$(stat -c '%U %a' /var/lib/tarnd)" = "tarnd 700" ] || wrong "the service's folder is not its own"
[ "$(stat -c '%G %a' /etc/default/tarnd)" = "tarnd 640" ] || wrong "others can read the service's settings"
for file in /usr/lib/systemd/system/tarnd.service /usr/lib/sysusers.d/tarnd.conf /usr/share/applications/kettle-tarn.desktop \
  /usr/share/icons/hicolor/scalable/apps/kettle-tarn.svg /usr/share/bash-completion/completions/tarn; do
  [ -s "$file" ] || wrong "$file is missing"
done
if command -v systemd-analyze >/dev/null; then systemd-analyze verify tarnd.service; fi
runuser -u tarnd -- env TARND_DB="postgres:///none?host=/nowhere" TARND_DATA=/var/lib/tarnd /usr/bin/tarnd verify >/dev/null 2>&1 &&
  wrong "it works without a database"
touch /var/lib/tarnd/somebodys-work
apt-get remove -y -qq kettle-tarn kettle-tarn-service >/dev/null
[ -e /usr/bin/tarn ] && wrong "the client is left"
[ -e /usr/bin/tarnd ] && wrong "the service is left"
[ -e /etc/default/tarnd ] || wrong "a removal took the settings"
apt-get purge -y -qq kettle-tarn-service >/dev/null
[ -e /etc/default/tarnd ] && wrong "the settings are left"
[ -e /var/lib/tarnd/somebodys-work ] || wrong "what the service kept is gone"
rm -r /var/lib/tarnd
say "installed, looked at, removed: nothing is left but the service's user"
