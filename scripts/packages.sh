#!/bin/sh
# Debian packages that are missing: installed when root, named otherwise.
set -eu
missing=""
ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || missing="$missing postgresql"
ls /usr/lib/postgresql/*/bin/pgbench >/dev/null 2>&1 || missing="$missing postgresql-contrib"
test -x /usr/sbin/pgbouncer || missing="$missing pgbouncer"
command -v psql >/dev/null 2>&1 || missing="$missing postgresql-client"
command -v bwrap >/dev/null 2>&1 || missing="$missing bubblewrap"
ls /usr/lib/*/libseccomp.so.2 >/dev/null 2>&1 || missing="$missing libseccomp2"
test -x /usr/bin/python3 || missing="$missing python3"
command -v runuser >/dev/null 2>&1 || missing="$missing util-linux"
test -x /usr/bin/chromium || missing="$missing chromium"
command -v npm >/dev/null 2>&1 || missing="$missing npm"
python3 -c 'import venv, ensurepip' 2>/dev/null || missing="$missing python3-venv"
[ -z "$missing" ] && exit 0
if [ "$(id -u)" = 0 ]; then
  echo "installing:$missing"
  # The server is started by Oak Relay itself, so Debian's own cluster is not made.
  mkdir -p /etc/postgresql-common
  [ -e /etc/postgresql-common/createcluster.conf ] || echo "create_main_cluster = false" > /etc/postgresql-common/createcluster.conf
  apt-get update -qq
  # shellcheck disable=SC2086
  DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null
else
  echo "missing:$missing; install with: sudo apt-get install$missing" >&2
  exit 1
fi
