# Sourced by ./run and ./test: makes the Python environment, the node modules and the front end, as far as they are
# missing. Each step is skipped when what it depends on has not changed.
set -euo pipefail
ROOT="$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)"
cd "$ROOT"
UV_VERSION=0.13.9

fail() { printf '%s\n' "$*" >&2; exit 1; }

find_python() {
  for candidate in python3.11 python3.12 python3; do
    if command -v "$candidate" >/dev/null && "$candidate" -c 'import sys; sys.exit(not (3, 11) <= sys.version_info[:2] < (3, 13))' 2>/dev/null; then
      command -v "$candidate"
      return
    fi
  done
  fail "Gentle Veil needs Python 3.11 or 3.12; this machine's python3 is $(python3 --version 2>/dev/null || echo missing). Install python3.11 and python3.11-venv."
}

check_node() {
  command -v node >/dev/null || fail "Gentle Veil needs Node 20.19 or newer to build its pages, and node is missing. Install Node 20."
  node -e 'const [a, b] = process.versions.node.split(".").map(Number); process.exit(a > 20 || (a === 20 && b >= 19) ? 0 : 1)' \
    || fail "Gentle Veil needs Node 20.19 or newer to build its pages; this is $(node --version). Install Node 20."
}

stamp_of() { cat "$@" | sha256sum | cut -c1-20; }

setup_python() {
  local python stamp
  python="$(find_python)"
  stamp="$(stamp_of pyproject.toml uv.lock)"
  if [ -x .venv/bin/gentle-veil ] && [ "$(cat .venv/.setup-stamp 2>/dev/null)" = "$stamp" ]; then return; fi
  if [ ! -x .tools/bin/uv ]; then
    echo "Setting up: Python tools"
    "$python" -m venv .tools || fail "A virtual environment could not be made; install python3-venv."
    .tools/bin/pip install --quiet --disable-pip-version-check "uv==$UV_VERSION"
  fi
  echo "Setting up: Python packages"
  .tools/bin/uv sync --locked --quiet --compile-bytecode --python "$python"
  # Our own modules too, so that even the first start is quick where bytecode is not written.
  .venv/bin/python -m compileall -q src
  echo "$stamp" > .venv/.setup-stamp
}

setup_web() {
  local stamp sources
  check_node
  stamp="$(stamp_of web/package.json web/package-lock.json)"
  if [ "$(cat web/node_modules/.setup-stamp 2>/dev/null)" != "$stamp" ]; then
    echo "Setting up: packages of the pages"
    (cd web && npm ci --ignore-scripts --no-audit --no-fund --loglevel=error)
    echo "$stamp" > web/node_modules/.setup-stamp
  fi
  sources="$(find web/src web/public web/index.html web/vite.config.ts web/package-lock.json -type f | LC_ALL=C sort | xargs sha256sum | sha256sum | cut -c1-20)"
  if [ "$(cat web/dist/.setup-stamp 2>/dev/null)" != "$sources" ]; then
    echo "Setting up: building the pages"
    (cd web && npx --no-install vite build --logLevel warn)
    echo "$sources" > web/dist/.setup-stamp
  fi
}

setup_chromium() {
  if [ -x /usr/bin/chromium ]; then return; fi
  echo "Setting up: Chromium, for the tests"
  [ "$(id -u)" = 0 ] || fail "The tests drive Debian's Chromium; install it with: sudo apt-get install chromium fonts-liberation"
  apt-get update -qq
  DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends chromium fonts-liberation >/dev/null
}
