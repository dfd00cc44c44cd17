# Servers for the demo and the tests: PostgreSQL and slapd, private, on loopback, never as root where they refuse that.
# Sourced by ./run. Every process that is started leaves its id and its start time; only those are ever ended.

say() { printf '%s\n' "$*"; }
fail() { printf 'passeur: %s\n' "$*" >&2; exit 1; }

. "$ROOT/demo/kerberos.sh"

PACKAGES_SERVERS="postgresql postgresql-client slapd ldap-utils openssl freeradius-utils $PACKAGES_KDC"

# Debian packages, installed without starting Debian's own servers.
need_packages() {
  local missing=()
  for p in "$@"; do dpkg-query -W -f='${Status}' "$p" 2>/dev/null | grep -q 'install ok installed' || missing+=("$p"); done
  [ ${#missing[@]} -eq 0 ] && return 0
  [ "$(id -u)" = 0 ] || fail "missing Debian packages: ${missing[*]}. Install them: sudo apt-get install ${missing[*]}"
  say "installing: ${missing[*]}"
  local policy=/usr/sbin/policy-rc.d made=no
  if [ ! -e "$policy" ]; then printf '#!/bin/sh\nexit 101\n' > "$policy" && chmod 755 "$policy" && made=yes; fi
  local ok=yes
  { apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}"; } \
    > "$STATE/log/packages.log" 2>&1 || ok=no
  [ $made = yes ] && rm -f "$policy"
  [ $ok = yes ] || fail "the packages ${missing[*]} could not be installed; see $STATE/log/packages.log"
}

need_command() { command -v "$1" >/dev/null || fail "$1 is missing: $2"; }

port_used() { (exec 3<>"/dev/tcp/127.0.0.1/$1") 2>/dev/null; }

free_port() { ! port_used "$1" || fail "port $1, needed for $2, is in use. Find out by what: ss -ltnp 'sport = :$1'"; }

start_time() { local s; s=$(cat "/proc/$1/stat" 2>/dev/null) || return 1; s=${s##*) }; set -- $s; printf '%s' "${20}"; }

alive() { # NAME: whether the process we started still runs
  local pid started
  [ -e "$STATE/run/$1" ] || return 1
  read -r pid started < "$STATE/run/$1" || return 1
  [ "$(start_time "$pid")" = "$started" ]
}

# start NAME COMMAND…: in a session of its own, so that Ctrl-C reaches only ./run.
start() {
  local name=$1; shift
  setsid "$@" > "$STATE/log/$name.log" 2>&1 < /dev/null 9>&- &
  local pid=$!
  local i; for i in 1 2 3 4 5; do start_time $pid >/dev/null && break; sleep 0.02; done
  printf '%s %s\n' "$pid" "$(start_time $pid)" > "$STATE/run/$name"
  disown $pid 2>/dev/null || true
}

# ready NAME PORT: until the port accepts, or the process is gone.
ready() {
  local i; for i in $(seq 1 300); do
    port_used "$2" && return 0
    alive "$1" || fail "$1 did not come up; see $STATE/log/$1.log: $(tail -n 3 "$STATE/log/$1.log" 2>/dev/null | tr '\n' ' ')"
    sleep 0.1
  done
  fail "$1 does not listen on port $2 after 30 s; see $STATE/log/$1.log"
}

end() { # NAME: asks it to end, waits, insists
  local pid started sig=TERM i
  [ "$1" = postgres ] && sig=INT
  alive "$1" || { rm -f "$STATE/run/$1"; return 0; }
  read -r pid started < "$STATE/run/$1"
  kill -$sig "$pid" 2>/dev/null
  for i in $(seq 1 100); do alive "$1" || break; sleep 0.1; done
  if alive "$1"; then kill -KILL "$pid" 2>/dev/null; fi
  rm -f "$STATE/run/$1"
}

random_text() { head -c 24 /dev/urandom | base64 | tr -d '/+=\n'; }

# A file of random text, made once, readable by its owner only.
secret_file() { [ -s "$1" ] || (umask 077; random_text > "$1"); }

pg_bin() { ls -d /usr/lib/postgresql/*/bin 2>/dev/null | sort -V | tail -n 1; }

# PostgreSQL refuses to run as root; as root it runs as Debian's user postgres, in a folder that user can reach.
as_postgres() { if [ "$(id -u)" = 0 ]; then runuser -u postgres -- "$@"; else "$@"; fi; }

start_postgres() { # PORT SETTING…
  local port=$1 bin data pass; shift
  bin=$(pg_bin); [ -n "$bin" ] || fail "PostgreSQL's server is missing: apt-get install postgresql"
  data=$STATE/postgres
  if [ "$(id -u)" = 0 ]; then
    mkdir -p "$data" && chown postgres "$data" && chmod 700 "$data"
    if ! as_postgres test -w "$data" 2>/dev/null; then
      data=/var/tmp/passeur-$(printf '%s' "$STATE" | sha256sum | cut -c1-12)
      mkdir -p "$data" && chown postgres "$data" && chmod 700 "$data"
    fi
  fi
  printf '%s' "$data" > "$STATE/postgres.path"
  secret_file "$STATE/postgres.password"
  pass=$(cat "$STATE/postgres.password")
  if [ ! -e "$data/PG_VERSION" ] && ! as_postgres test -e "$data/PG_VERSION"; then
    local pwfile; pwfile=$(mktemp /tmp/passeur-XXXXXXXX) && printf '%s\n' "$pass" > "$pwfile"
    [ "$(id -u)" = 0 ] && chown postgres "$pwfile"
    as_postgres "$bin/initdb" -D "$data" -U passeur -A scram-sha-256 --pwfile="$pwfile" -E UTF8 --locale=C.UTF-8 \
      > "$STATE/log/initdb.log" 2>&1 || { rm -f "$pwfile"; fail "PostgreSQL's data folder could not be made; see $STATE/log/initdb.log"; }
    rm -f "$pwfile"
  fi
  local settings=(-c "port=$port" -c listen_addresses=127.0.0.1 -c unix_socket_directories= -c max_connections=300)
  local s; for s in "$@"; do settings+=(-c "$s"); done
  if [ "$(id -u)" = 0 ]; then
    start postgres setpriv --reuid=postgres --regid=postgres --init-groups "$bin/postgres" -D "$data" "${settings[@]}"
  else
    start postgres "$bin/postgres" -D "$data" "${settings[@]}"
  fi
  ready postgres "$port"
  local i; for i in $(seq 1 100); do
    PGPASSWORD=$pass psql -h 127.0.0.1 -p "$port" -U passeur -d postgres -qAtc 'select 1' >/dev/null 2>&1 && return 0
    sleep 0.1
  done
  fail "PostgreSQL does not answer; see $STATE/log/postgres.log"
}

start_slapd() { # PORT TLSPORT
  local port=$1 tls=$2 dir=$STATE/slapd fresh=no
  # People who were changed since are loaded anew.
  local people; people=$(cat "$ROOT/demo/people.ldif" "$ROOT/demo/people.toml" "$ROOT/demo/lib.sh" "$ROOT/demo/kerberos.sh" | sha256sum)
  if [ "$(cat "$dir/ready" 2>/dev/null)" != "$people" ]; then
    fresh=yes
    rm -rf "$dir"; mkdir -p "$dir/config" "$dir/data"
    secret_file "$STATE/slapd.root"; secret_file "$STATE/slapd.account"; secret_file "$STATE/kdc.account"
    make_certificate "$dir"
    slapd_config "$dir" > "$dir/config.ldif"
    slapadd -n0 -F "$dir/config" -l "$dir/config.ldif" > "$STATE/log/slapadd.log" 2>&1 || fail "slapd could not be set up; see $STATE/log/slapadd.log"
  fi
  local urls="ldap://127.0.0.1:$port/"
  [ -n "$tls" ] && urls="$urls ldaps://127.0.0.1:$tls/"
  start slapd /usr/sbin/slapd -F "$dir/config" -h "$urls" -d 0
  ready slapd "$port"
  [ $fresh = yes ] || return 0
  { cat "$ROOT/demo/people.ldif"; service_entry; kerberos_entries; rosters; } > "$dir/people.ldif"
  ldapadd -x -H "ldap://127.0.0.1:$port/" -D cn=root,dc=havrelune,dc=example -y "$STATE/slapd.root" -f "$dir/people.ldif" \
    > "$STATE/log/ldapadd.log" 2>&1 || fail "the harbour's people could not be loaded; see $STATE/log/ldapadd.log"
  passwords > "$dir/passwords.ldif"
  ldapmodify -x -H "ldap://127.0.0.1:$port/" -D cn=root,dc=havrelune,dc=example -y "$STATE/slapd.root" -f "$dir/passwords.ldif" \
    >> "$STATE/log/ldapadd.log" 2>&1 || fail "the harbour's passwords could not be set; see $STATE/log/ldapadd.log"
  printf '%s' "$people" > "$dir/ready"
}

people_of_the_directory() { # user and password of each, who also stand in the directory
  local user password
  sed -n 's/^user = "\(.*\)"$/\1/p; s/^password = "\(.*\)"$/\1/p' "$ROOT/demo/people.toml" | while read -r user && read -r password; do
    ! grep -q "^uid: $user\$" "$ROOT/demo/people.ldif" || printf '%s %s\n' "$user" "$password"
  done
}

passwords() { # In the directory people have the password that they have at the pilotage office; Olaf's account is locked.
  local user password
  people_of_the_directory | while read -r user password; do
    printf 'dn: uid=%s,ou=people,dc=havrelune,dc=example\nchangetype: modify\nadd: userPassword\nuserPassword: %s\n\n' "$user" "$password"
  done
  printf 'dn: uid=olaf,ou=people,dc=havrelune,dc=example\nchangetype: modify\nadd: userPassword\nuserPassword: low-water\n-\nadd: pwdAccountLockedTime\npwdAccountLockedTime: 000001010000Z\n\n'
}

make_certificate() { # DIR: an authority and a certificate for localhost names, good for the tests' TLS
  local d=$1
  openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -days 30 -subj "/CN=Havrelune test authority" \
    -keyout "$d/ca.key" -out "$d/ca.pem" > "$STATE/log/openssl.log" 2>&1 &&
  openssl req -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -subj "/CN=localhost" -keyout "$d/server.key" -out "$d/server.csr" >> "$STATE/log/openssl.log" 2>&1 &&
  openssl x509 -req -in "$d/server.csr" -CA "$d/ca.pem" -CAkey "$d/ca.key" -CAcreateserial -days 30 -out "$d/server.pem" \
    -extfile <(printf 'subjectAltName=DNS:localhost,DNS:directory.havrelune.localhost,IP:127.0.0.1\nbasicConstraints=CA:FALSE\n') >> "$STATE/log/openssl.log" 2>&1 ||
  fail "a certificate could not be made; see $STATE/log/openssl.log"
}

slapd_config() {
  local d=$1 schema
  cat <<LDIF
dn: cn=config
objectClass: olcGlobal
cn: config
olcSizeLimit: unlimited
olcTLSCACertificateFile: $d/ca.pem
olcTLSCertificateFile: $d/server.pem
olcTLSCertificateKeyFile: $d/server.key

dn: cn=module,cn=config
objectClass: olcModuleList
cn: module
olcModulePath: /usr/lib/ldap
olcModuleLoad: back_mdb
olcModuleLoad: ppolicy

dn: cn=schema,cn=config
objectClass: olcSchemaConfig
cn: schema

LDIF
  for schema in core cosine nis inetorgperson; do cat "/etc/ldap/schema/$schema.ldif"; printf '\n'; done
  kerberos_schema
  cat <<LDIF
dn: olcDatabase=mdb,cn=config
objectClass: olcDatabaseConfig
objectClass: olcMdbConfig
olcDatabase: mdb
olcDbDirectory: $d/data
olcSuffix: dc=havrelune,dc=example
olcRootDN: cn=root,dc=havrelune,dc=example
olcRootPW: $(cat "$STATE/slapd.root")
olcDbNoSync: TRUE
olcDbMaxSize: 268435456
olcDbIndex: objectClass eq
olcDbIndex: uid eq
olcDbIndex: mail eq
olcDbIndex: member eq
olcDbIndex: krbPrincipalName eq
olcAccess: to attrs=userPassword by anonymous auth by * none
olcAccess: to attrs=krbPrincipalKey,krbMKey,krbPwdHistory by dn.exact="cn=kdc,ou=services,dc=havrelune,dc=example" write by * none
olcAccess: to * by dn.exact="cn=kdc,ou=services,dc=havrelune,dc=example" write by dn.exact="cn=passeur,ou=services,dc=havrelune,dc=example" read by * none

dn: olcOverlay=ppolicy,olcDatabase={1}mdb,cn=config
objectClass: olcOverlayConfig
objectClass: olcPPolicyConfig
olcOverlay: ppolicy
olcPPolicyUseLockout: TRUE
LDIF
}

service_entry() {
  cat <<LDIF

dn: cn=passeur,ou=services,dc=havrelune,dc=example
objectClass: applicationProcess
objectClass: simpleSecurityObject
cn: passeur
userPassword: $(cat "$STATE/slapd.account")

LDIF
}

rosters() { # Klara is in 199 rosters beside the pilots.
  local i; for i in $(seq -w 1 199); do
    printf 'dn: cn=roster-%s,ou=groups,dc=havrelune,dc=example\nobjectClass: groupOfNames\ncn: roster-%s\nmember: uid=klara,ou=people,dc=havrelune,dc=example\n\n' "$i" "$i"
  done
}

build_console() {
  need_command node "install Node.js 20 or later"
  need_command npm "install npm"
  cd "$ROOT/console" || fail "console/ is missing"
  if [ ! -e node_modules/.package-lock.json ] || [ package-lock.json -nt node_modules/.package-lock.json ]; then
    say "fetching the console's dependencies"
    npm ci > "$STATE/log/npm.log" 2>&1 || fail "npm ci failed; see $STATE/log/npm.log"
    touch node_modules/.package-lock.json
  fi
  if [ ! -e dist/index.html ] || [ -n "$(find src public index.html vite.config.ts package.json -newer dist/index.html -print -quit 2>/dev/null)" ]; then
    say "building the console"
    npm run build > "$STATE/log/console.log" 2>&1 || fail "the console could not be built; see $STATE/log/console.log"
  fi
  cd "$ROOT" || exit 1
}

TARGET() { printf '%s' "${CARGO_TARGET_DIR:-$ROOT/target}"; }
