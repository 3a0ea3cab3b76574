# Shared by the scripts: where artefacts go, and how what is needed gets here. Sourced, with the repository as working directory.

# Build artefacts outlive a clone.
export CARGO_TARGET_DIR="${CARGO_TARGET_DIR:-$HOME/.cache/fenetre/target}"

say() { printf '\n== %s\n' "$*" >&2; }

# Debian packages, installed where they are missing.
need_packages() {
  local missing=()
  for package in "$@"; do
    [ "$(dpkg-query -W -f='${db:Status-Status}' "$package" 2>/dev/null)" = installed ] || missing+=("$package")
  done
  [ ${#missing[@]} -eq 0 ] && return
  say "installing ${missing[*]}"
  local root=""
  [ "$(id -u)" = 0 ] || root=sudo
  $root apt-get update -q >&2
  DEBIAN_FRONTEND=noninteractive $root apt-get install -y -q --no-install-recommends "${missing[@]}" >&2
}

need_command() {
  command -v "$1" >/dev/null || { echo "$1 is missing: $2" >&2; exit 1; }
}

# A C compiler for SQLite and zstd, which are built from source.
need_toolchain() {
  need_command cargo "install Rust 1.95 or later"
  need_command node "install Node 20 or later"
  need_packages gcc libc6-dev
}

# The console's packages, as the lock file says, and its build.
console_packages() {
  local lock
  lock=$(sha256sum console/package-lock.json)
  [ "$(cat console/node_modules/.stamp 2>/dev/null)" = "$lock" ] && return
  say "installing the console's packages"
  (cd console && npm ci --prefer-offline --no-audit --no-fund >&2)
  echo "$lock" > console/node_modules/.stamp
}

# Built only if a source is newer than the last build: the service embeds the files, so each build of them is one of the service too.
build_console() {
  console_packages
  local built=console/dist/index.html
  if [ -f "$built" ]; then
    local newer
    newer=$(find console docs/openapi.json \( -name node_modules -o -name dist -o -name schema.ts \) -prune -o -type f -newer "$built" -print -quit)
    [ -n "$newer" ] || return 0
  fi
  say "building the console"
  (cd console && npm run -s build >&2)
}

# Devices and servers of other makers, in Python, for the tests of sources. FENETRE_PEERS is the interpreter that has their packages.
python_peers() {
  need_packages python3 python3-venv
  local list=e2e/peers/requirements.txt folder
  folder="$HOME/.cache/fenetre/peers-$(sha256sum "$list" | cut -c1-12)"
  if [ ! -e "$folder/.complete" ]; then
    say "installing the peers of the tests"
    python3 -m venv "$folder" >&2
    "$folder/bin/pip" install -q --disable-pip-version-check -r "$list" >&2
    touch "$folder/.complete"
  fi
  export FENETRE_PEERS="$folder/bin/python"
}
