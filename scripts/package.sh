#!/usr/bin/env bash
# The wheel, and a Debian package that holds all of Python's side in one folder, into dist/.
set -euo pipefail
python="$1"
here=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
cd "$here"
say() { printf '%s\n' "$*" >&2; }

version=$("$python" -c 'import tallgrain; print(tallgrain.__version__)')
minor=$("$python" -c 'import sys; print("%d.%d" % sys.version_info[:2])')
arch=$(dpkg --print-architecture)
root=$(mktemp -d)
trap 'rm -rf "$root"' EXIT
home="$root/usr/lib/tallgrain"
packages="$home/lib/python$minor/site-packages"

say "What is made from the program itself: man page, completion, icon ..."
"$python" scripts/share_files.py
say "The wheel ..."
mkdir -p dist
rm -f dist/tallgrain-"$version"-*.whl
"$python" -m pip wheel --quiet --disable-pip-version-check --no-deps --no-build-isolation -w dist .
wheel=$(echo dist/tallgrain-"$version"-*.whl)

say "The package's folder (about a minute) ..."
mkdir -p "$packages" "$home/bin" "$root/usr/bin" "$root/usr/share" "$root/DEBIAN"
"$python" -m pip install --quiet --disable-pip-version-check --require-hashes --no-compile \
  --target "$packages" -r requirements.lock
"$python" -m pip install --quiet --disable-pip-version-check --no-deps --no-compile \
  --target "$packages" --upgrade "$wheel"
rm -rf "$packages/share" "$packages/bin"
find "$packages" -type d \( -name tests -o -name __pycache__ \) -prune -exec rm -rf {} +
# Compiled here once: nobody pays for it at each start, and removing the package leaves nothing.
"$python" -m compileall -q -j 0 --invalidation-mode unchecked-hash \
  -s "$root" -p / "$packages"
ln -s "/usr/bin/python$minor" "$home/bin/python"
printf 'home = /usr/bin\ninclude-system-site-packages = false\n' > "$home/pyvenv.cfg"
cat > "$root/usr/bin/tallgrain" <<'TEXT'
#!/bin/sh
export PYTHONNOUSERSITE=1
export PYTHONDONTWRITEBYTECODE=1
exec /usr/lib/tallgrain/bin/python -m tallgrain "$@"
TEXT
chmod 755 "$root/usr/bin/tallgrain"
cp -r share/. "$root/usr/share/"
gzip -9n "$root/usr/share/man/man1/tallgrain.1"
doc="$root/usr/share/doc/tallgrain"
mkdir -p "$doc"
gzip -9nc CHANGELOG.md > "$doc/changelog.gz"
cat > "$doc/copyright" <<'TEXT'
Format: https://www.debian.org/doc/packaging-manuals/copyright-format/1.0/
Upstream-Name: Tall Grain

Files: *
Copyright: the makers of Tall Grain
License: GPL-3.0-or-later
 On Debian systems the full text is in /usr/share/common-licenses/GPL-3.
TEXT
depends=$("$python" -c 'from tallgrain.qtlibs import PACKAGES; print(", ".join(sorted(set(PACKAGES.values()))))')
cat > "$root/DEBIAN/control" <<TEXT
Package: tallgrain
Version: $version
Architecture: $arch
Maintainer: The makers of Tall Grain <makers@tallgrain.invalid>
Depends: python$minor, $depends
Installed-Size: $(du -sk "$root/usr" | cut -f1)
Section: science
Priority: optional
Description: probe, survey and judge a printer's bed
 A bench instrument for people who build printers. It says what the next first
 layer would be, of what that is made, and what to do with the next two
 minutes. A demo with a simulated printer ships with it.
TEXT
find "$root" -type d -exec chmod 755 {} +
find "$root" -type f ! -path "$root/usr/bin/*" -exec chmod 644 {} +
(cd "$root" && find usr -type f -print0 | LC_ALL=C sort -z | xargs -0 md5sum > DEBIAN/md5sums)
say "The package ..."
deb="dist/tallgrain_${version}_${arch}.deb"
dpkg-deb --root-owner-group -Zxz -z1 --build "$root" "$deb" >/dev/null
say "$wheel"
say "$deb, $(du -m "$deb" | cut -f1) MB. Install it with: sudo apt-get install ./$deb"
