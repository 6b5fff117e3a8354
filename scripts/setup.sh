#!/usr/bin/env bash
# Everything that a fresh machine needs: Debian packages, the virtual environment, the built console.
# Each part is skipped when what it is made from has not changed since.
set -euo pipefail
cd "$(dirname "$0")/.."
mkdir -p .make

done_for() { [ -f ".make/$1" ] && [ "$(cat ".make/$1")" = "$2" ]; }
say() { printf '· %s\n' "$*"; }

packages=()
ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || packages+=(postgresql)
command -v mariadbd >/dev/null || [ -x /usr/sbin/mariadbd ] || packages+=(mariadb-server)
command -v s3270 >/dev/null || packages+=(s3270)
command -v hercules >/dev/null || packages+=(hercules)
command -v chromium-headless-shell >/dev/null || packages+=(chromium-headless-shell)
command -v wsdl2h >/dev/null || packages+=(gsoap libgsoap-dev)
command -v g++ >/dev/null || packages+=(g++)
command -v cobc >/dev/null || packages+=(gnucobol3)
command -v npm >/dev/null || packages+=(nodejs npm)
python3 -c 'import ensurepip' 2>/dev/null || packages+=(python3-venv)
installing=
if [ ${#packages[@]} -gt 0 ]; then
  say "Debian packages: ${packages[*]}"
  as_root=(); [ "$(id -u)" = 0 ] || { as_root=(sudo); sudo -v; }
  {
    "${as_root[@]}" apt-get update -qq &&
    DEBIAN_FRONTEND=noninteractive "${as_root[@]}" apt-get install -y -qq --no-install-recommends "${packages[@]}" >/dev/null
  } &
  installing=$!
fi
# Beside what only waits for the net: the Python packages, unless Python itself lacks what makes an environment.
debian_packages() { [ -z "$installing" ] || { wait "$installing"; installing=; }; }
trap 'debian_packages || true' EXIT  # whatever fails meanwhile: two runs of apt would stand in each other's way
python3 -c 'import ensurepip' 2>/dev/null || debian_packages

python3 -c 'import sys; sys.exit(sys.version_info < (3, 11))' || { echo "Python 3.11 or newer is needed." >&2; exit 1; }
want=$(cat requirements.lock pyproject.toml | sha256sum)
if ! done_for python "$want" || [ ! -x .venv/bin/bricola ]; then
  say "Python packages into .venv"
  [ -x .venv/bin/python ] || python3 -m venv .venv
  .venv/bin/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock
  .venv/bin/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
  echo "$want" > .make/python
fi

debian_packages
want=$(cat console/package-lock.json | sha256sum)
if ! done_for npm "$want" || [ ! -d console/node_modules ]; then
  say "npm packages of the console"
  (cd console && npm ci --no-audit --no-fund --loglevel=error)
  echo "$want" > .make/npm
fi

want=$(cat console/package-lock.json console/index.html console/*.ts console/public/* $(find console/src -type f | sort) | sha256sum)
if ! done_for console "$want" || [ ! -f src/bricola/server/static/index.html ]; then
  say "building the console"
  (cd console && npm run --silent build)
  echo "$want" > .make/console
fi

# Where the environment keeps Python from writing what it compiles, every start of a process would compile all modules anew: 1.3 seconds.
.venv/bin/python -m compileall -q -j 0 src
