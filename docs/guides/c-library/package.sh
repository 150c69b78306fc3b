#!/bin/sh
# package.sh HOST: a Debian package of what lies in root.
set -eu
case "$1" in
x86_64-*) arch=amd64 ;;
aarch64-*) arch=arm64 ;;
riscv64-*) arch=riscv64 ;;
esac
mkdir -p root/DEBIAN out
cat > root/DEBIAN/control <<END
Package: libtide-dev
Version: 1.4
Architecture: $arch
Maintainer: Ines <ines@saltmarsh.example>
Description: heights above a station's datum
END
dpkg-deb --root-owner-group --build root "out/libtide-dev_1.4_$arch.deb"
