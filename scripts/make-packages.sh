#!/bin/sh
# Makes what is installed on other machines, in dist/packages: a Debian package each for the client and the service, archives of the client
# for macOS and Windows, and a list of digests. Run it from the project's root, after make build and with bin/tools/nfpm.
# VERSION is that of the packages, ARCHS the architectures (amd64 and arm64 where nothing is said). With CERTIFICATE (PKCS #12) and
# CERTIFICATE_PASSWORD_FILE, the Windows client is signed.
set -eu

out=dist/packages
VERSION=${VERSION:-0.0.0~$(git log -1 --format=%cd.%h --date=format:%Y%m%d)}
rm -rf "$out"
mkdir -p "$out/work"
export VERSION OUT="$out/work"

# for a system, an architecture, a program and its ending
build() {
  mkdir -p "$OUT/$1-$2"
  GOOS=$1 GOARCH=$2 CGO_ENABLED=0 go build -trimpath -ldflags="-s -w -X kettletarn/internal/version.given=$VERSION" -o "$OUT/$1-$2/$3${4:-}" "./cmd/$3"
}

go build -o "$OUT/tarn" ./cmd/tarn
"$OUT/tarn" --licences >"$OUT/LICENCES"
"$OUT/tarn" completion bash >"$OUT/tarn.bash"

for ARCH in ${ARCHS:-amd64 arm64}; do
  export ARCH
  build linux "$ARCH" tarn
  build linux "$ARCH" tarnd
  for package in tarn tarnd; do
    bin/tools/nfpm package --packager deb --config "packaging/$package.yaml" --target "$out/" >/dev/null
  done
  build darwin "$ARCH" tarn
  cp "$OUT/LICENCES" "$OUT/darwin-$ARCH/"
  tar -C "$OUT/darwin-$ARCH" --owner=0 --group=0 --numeric-owner -czf "$out/kettle-tarn_${VERSION}_macos-$ARCH.tar.gz" tarn LICENCES
  build windows "$ARCH" tarn .exe
  if [ -n "${CERTIFICATE:-}" ]; then
    osslsigncode sign -pkcs12 "$CERTIFICATE" -readpass "$CERTIFICATE_PASSWORD_FILE" -n "Kettle Tarn" -h sha256 \
      -in "$OUT/windows-$ARCH/tarn.exe" -out "$OUT/windows-$ARCH/signed.exe" >/dev/null
    mv "$OUT/windows-$ARCH/signed.exe" "$OUT/windows-$ARCH/tarn.exe"
  fi
  cp "$OUT/LICENCES" "$OUT/windows-$ARCH/"
  (cd "$OUT/windows-$ARCH" && zip -q -X "../../kettle-tarn_${VERSION}_windows-$ARCH.zip" tarn.exe LICENCES)
done
rm -rf "$OUT"
(cd "$out" && sha256sum -- *.deb *.tar.gz *.zip >SHA256SUMS)
cat "$out/SHA256SUMS"
