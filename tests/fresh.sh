#!/usr/bin/env bash
# tests/fresh.sh DIR [--user] [PART ...]: the commands of the README on a bare Debian 12. Not part of ./maestoso test.
#
# Makes a bare root in DIR with debootstrap (Debian's own Python, no compiler, no Node, no MariaDB), or takes the one
# that is there, and clones the committed HEAD into it. There it starts the demo twice, stops it twice, and runs
# ./maestoso test PART ... (core where none is named; none for no test). With --user all of that is done by an ordinary
# user, after root has installed the Debian packages that the launcher named. Prints how long each took.
# Wants root, debootstrap, and the demo's ports free.
set -euo pipefail
[ $# -ge 1 ] || { sed -n '2,9s/^# \?//p' "$0"; exit 2; }
source=$(cd "$(dirname "$0")/.." && pwd)
mkdir -p "$1"; root=$(cd "$1" && pwd); shift
user=root; home=/root
if [ "${1:-}" = --user ]; then user=visitor; home=/home/visitor; shift; fi
parts=("${@:-core}")

if [ ! -x "$root/usr/bin/python3" ]; then
  mirror=$(sed -n 's/^URIs: *//p; s/^deb \(\[[^]]*\] \)\?\([^ ]*\) .*/\2/p' /etc/apt/sources.list.d/*.sources /etc/apt/sources.list 2>/dev/null | head -1)
  debootstrap --variant=minbase --include=ca-certificates,python3,git bookworm "$root" "$mirror" >"$root.log" 2>&1 \
    || { tail -5 "$root.log"; exit 1; }
fi
# What makes this machine reach its mirrors: names, certificates, sources, proxies.
cp -L /etc/resolv.conf /etc/hosts "$root/etc/"
cp -r /etc/ssl/certs/. "$root/etc/ssl/certs/"
for file in /etc/apt/sources.list /etc/apt/sources.list.d /etc/apt/apt.conf.d/*proxy* /etc/pip.conf ~/.npmrc; do
  case "$file" in ~/*) to="$root$home" ;; *) to="$root$(dirname "$file")" ;; esac
  [ ! -e "$file" ] || { mkdir -p "$to"; cp -r "$file" "$to/"; }
done
for place in proc dev; do mountpoint -q "$root/$place" || mount --bind "/$place" "$root/$place"; done
trap 'umount "$root/proc" "$root/dev" 2>/dev/null || true' EXIT
[ "$user" = root ] || chroot "$root" id "$user" >/dev/null 2>&1 || chroot "$root" useradd -m "$user"
rm -rf "$root$home/maestoso"
git clone -q "$source" "$root$home/maestoso"
cat >"$root$home/go" <<'GO'
set -euo pipefail
cd ~/maestoso
up() {
  ./maestoso demo >"$1" 2>&1 & starting=$!
  until grep -qs 'Sign in as' "$1"; do
    kill -0 $starting 2>/dev/null || { echo "$2 FAILED:"; tail -20 "$1"; exit 1; }
    sleep 0.2
  done
  echo "$2: $SECONDS s"
}
SECONDS=0; up ~/first.log 'first start'
SECONDS=0; ./maestoso stop; echo "stop: $SECONDS s"
SECONDS=0; up ~/second.log 'second start'; ./maestoso stop
[ "$1" != none ] || exit 0
SECONDS=0; ./maestoso test "$@" >~/test.log 2>&1 || { echo 'test FAILED:'; tail -40 ~/test.log; exit 1; }
echo "test $*: $(tail -1 ~/test.log), $SECONDS s"
GO
chroot "$root" chown -R "$user" "$home"
inside() { # HOME, USER, command: nothing of this machine's environment goes along
  chroot "$root" env -i PATH=/usr/sbin:/usr/bin:/sbin:/bin HOME="$1" LANG=C.UTF-8 \
    NODE_EXTRA_CA_CERTS=/etc/ssl/certs/ca-certificates.crt runuser -u "$2" -- "${@:3}"
}
if [ "$user" != root ]; then
  named=$(inside "$home" "$user" sh -c 'cd ~/maestoso && ./maestoso test 2>&1' | sed -n 's/^ *apt-get update && //p') || true
  [ -z "$named" ] || { echo "root installs: $named"; inside /root root sh -c "apt-get update && DEBIAN_FRONTEND=noninteractive $named" >"$root.apt.log" 2>&1; }
fi
inside "$home" "$user" bash "$home/go" "${parts[@]}"
