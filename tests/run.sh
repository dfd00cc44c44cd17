# The tests. Sourced by ./run.
PACKAGES_TESTS="$PACKAGES_SERVERS $PACKAGES_BUILD nftables iproute2 openvpn dnsmasq-base isc-dhcp-client curl chromium chromium-driver fonts-dejavu-core xmlsec1 python3-pyrad openssh-server openssh-client"

any_port() { # a port that is free just now
  local p; while :; do p=$((20000 + RANDOM % 20000)); port_used $p || { printf '%s' $p; return; }; done
}

stage() { # NAME COMMAND…: runs, and says how long it took
  local name=$1 began=$SECONDS; shift
  say "── $name"
  "$@" || fail "$name failed"
  say "── $name: $(((SECONDS - began) / 60)) min $(((SECONDS - began) % 60)) s"
}

console_checks() { (cd "$ROOT/console" && npm run --silent check && npx vitest run); }
# Always the whole workspace: with fewer packages Cargo would choose other features and build the dependencies again.
# Every test that Cargo knows of, but the one that needs servers.
unit_tests() {
  local named='const { packages } = JSON.parse(require("fs").readFileSync(0));
    const tests = packages.flatMap((p) => p.targets).filter((t) => t.kind.includes("test") && t.name !== "end_to_end");
    for (const name of new Set(tests.map((t) => t.name))) console.log("--test=" + name)'
  local tests; tests=$(cargo metadata --locked --no-deps --format-version 1 | node -e "$named") && [ -n "$tests" ] || return 1
  cargo test --locked --workspace --lib --bins $tests && cargo test --locked --workspace --doc
}
build_tests() { cargo build --locked --workspace --all-targets; }
end_to_end() { cargo test --locked --workspace --test end_to_end -- --skip browser:: "$@"; }
in_chromium() { cargo test --locked --workspace --test end_to_end -- browser:: --test-threads=1; }
# Every secret that tests saw or gave, looked for in a dump of every table of every test and in everything that was logged.
no_secret_in_clear() {
  local kept=$STATE/kept
  [ -s "$kept/secrets.txt" ] && [ -s "$kept/dumps.txt" ] && [ -s "$kept/service.log" ] || { echo "nothing was kept to look through"; return 1; }
  # A secret that is put there on purpose is found: otherwise this proves nothing.
  head -1 "$kept/secrets.txt" | grep -qFf "$kept/secrets.txt" || return 1
  LC_ALL=C grep -nFf "$kept/secrets.txt" "$kept/dumps.txt" "$kept/service.log" | cut -c1-300 > "$kept/in-clear.txt"
  [ ! -s "$kept/in-clear.txt" ] || { head -20 "$kept/in-clear.txt"; return 1; }
  rm -f "$kept/secrets.txt" "$kept/dumps.txt" "$kept/service.log" "$kept/in-clear.txt"
}
lints() { cargo fmt --all --check && cargo clippy --locked --workspace --all-targets -q -- -D warnings; }

servers() { # SETTING…: of PostgreSQL
  local pg ldap ldaps
  pg=$(any_port); start_postgres "$pg" "$@"
  ldap=$(any_port); ldaps=$(any_port); start_slapd "$ldap" "$ldaps"
  start_kdc "$(any_port)" "$(any_port)" "$ldap"
  local locks; locks=$(any_port)
  KRB5_KTNAME=FILE:$STATE/keytabs/locks.keytab KRB5RCACHENAME=none: start locks "${STANDINS:-$(TARGET)/debug/passeur-standins}" locks --listen "127.0.0.1:$locks"
  ready locks "$locks"
  export PASSEUR_TEST_LOCKS="127.0.0.1:$locks"
  export PASSEUR_TEST_KERBEROS="$STATE" KRB5CCNAME=MEMORY:none KRB5_KTNAME=MEMORY:none KRB5RCACHENAME=none:
  export PASSEUR_TEST_POSTGRES="postgres://passeur:$(cat "$STATE/postgres.password")@127.0.0.1:$pg"
  export PASSEUR_TEST_LDAP="ldap://127.0.0.1:$ldap" PASSEUR_TEST_LDAPS="ldaps://directory.havrelune.localhost:$ldaps"
  export PASSEUR_TEST_CA="$STATE/slapd/ca.pem" PASSEUR_TEST_LDAP_PASSWORD="$(cat "$STATE/slapd.account")"
}

driver() {
  local port; port=$(any_port)
  start chromedriver chromedriver --port="$port" --allowed-ips=127.0.0.1
  ready chromedriver "$port"
  export PASSEUR_TEST_CHROMEDRIVER="http://127.0.0.1:$port"
  # One browser for all tests, each with a context of its own.
  port=$(any_port); rm -rf "$STATE/chromium"; mkdir -p "$STATE/chromium"
  # What an organisation's policy tells a browser: with whom it may negotiate, and to whom it may hand tickets on.
  printf '{"net":{"received_http_auth_negotiate_headers":true},"auth":{"server_allowlist":"*.localhost","negotiate_delegate_whitelist":"*.localhost"}}' \
    > "$STATE/chromium/Local State"
  export PASSEUR_TEST_TICKETS=$STATE/tickets-of-the-browser; rm -f "$PASSEUR_TEST_TICKETS"
  KRB5CCNAME=FILE:$PASSEUR_TEST_TICKETS start chromium /usr/bin/chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking \
    --disable-component-update --disable-sync --force-prefers-reduced-motion --no-proxy-server --disable-dev-shm-usage --lang=en-GB \
    "--auth-server-allowlist=*.localhost" \
    "--host-resolver-rules=MAP * ~NOTFOUND, EXCLUDE *.localhost, EXCLUDE localhost, EXCLUDE 127.0.0.1" \
    --user-data-dir="$STATE/chromium" --remote-debugging-port="$port" about:blank
  ready chromium "$port"
  export PASSEUR_TEST_CHROMIUM="127.0.0.1:$port"
}

end_tests() {
  for s in chromedriver chromium locks kdc slapd postgres; do end $s; done
  local data; data=$(cat "$STATE/postgres.path" 2>/dev/null)
  rm -rf "$STATE/postgres" "$STATE/slapd" "$STATE/kdc" "$STATE/krb5.d" "$STATE/keytabs" "$STATE/chromium"
  case "$data" in /var/tmp/passeur-*) rm -rf "$data" ;; esac
}

run_tests() {
  STATE=$ROOT/.test
  export PASSEUR_TEST_KEEP=$STATE/kept PASSEUR_TEST_CLEAR=$STATE/kept
  prepare
  exec 9> "$STATE/lock"
  flock -n 9 || fail "another ./run test is running in this folder"
  end_tests; rm -rf "$STATE/kept"
  trap 'end_tests' EXIT
  trap 'exit 130' INT TERM
  # Where nobody builds incrementally, what such a build keeps for the next one would take gigabytes, and a fifth of our own crates' time.
  [ -d "$(TARGET)/debug/incremental" ] || export CARGO_INCREMENTAL=0
  stage "packages" need_packages $PACKAGES_TESTS
  stage "console" build_console
  stage "console: types, lints and tests" console_checks
  stage "build" build_tests
  stage "lints" lints
  stage "units" unit_tests
  stage "servers" servers fsync=off full_page_writes=off synchronous_commit=off
  stage "end to end" end_to_end "$@"
  stage "chromedriver" driver
  stage "in chromium" in_chromium
  stage "no secret in clear" no_secret_in_clear
  say "All tests passed in $((SECONDS / 60)) min $((SECONDS % 60)) s."
}

# What a command prints on a terminal, as a picture.
terminal_shot() { # NAME COMMAND
  local page=$STATE/$1.html
  { printf '<meta charset="utf-8"><style>body{background:#14181a;margin:18px 22px}pre{font:13.5px/1.42 "DejaVu Sans Mono",monospace}</style>'
    COLUMNS=140 TERM=xterm script -qefc "$2" /dev/null < /dev/null | tr -d '\r' | aha --no-header --black; } |
    sed 's|</style>|</style><pre style="color:#d7dcda">|' > "$page"
  chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --user-data-dir="$STATE/chromium-page" --window-size=1280,800 \
    --screenshot="$ROOT/docs/screenshots/$1.png" "file://$page" > "$STATE/log/picture.log" 2>&1 || fail "no picture of $1; see $STATE/log/picture.log"
}

# Pictures of the running demo, at 1280x800.
run_shots() {
  alive passeur || fail "start the demo first: ./run demo --background"
  need_packages $PACKAGES_TESTS aha
  . "$STATE/env"
  local demo=$STATE; STATE=$ROOT/.test; prepare
  trap 'end chromedriver; end chromium' EXIT
  driver
  mkdir -p docs/screenshots
  PASSEUR_TEST_KEEP=$ROOT/docs/screenshots cargo test -q --locked --workspace --test end_to_end -- --ignored shots:: --test-threads=1 || exit 1
  terminal_shot host "passeur host anouk@HAVRELUNE.EXAMPLE --root demo/hosts/winch"
  say "docs/screenshots/ is made anew from $demo"
}
