# The harbour's Kerberos: a KDC whose database is the directory, private, on loopback. Sourced by lib.sh.
#
# Two realms in one process: the harbour's, and that of the shipping agents, whose people may show tickets to the harbour's services.

PACKAGES_KDC="krb5-kdc krb5-kdc-ldap krb5-admin-server krb5-user"
PACKAGES_BUILD="build-essential pkg-config libkrb5-dev libclang-dev"
REALM=HAVRELUNE.EXAMPLE
REALM_AGENTS=AGENTS.EXAMPLE

kerberos_schema() { # as LDIF for slapd's configuration; the package carries it among its documentation alone
  local kept=$STATE/slapd/kerberos.ldif doc=/usr/share/doc/krb5-kdc-ldap/kerberos.openldap.ldif.gz
  if [ -e $doc ]; then zcat $doc > "$kept"; else
    # Where documentation is not installed it still lies in the package.
    (cd "$STATE/slapd" && apt-get download -qq krb5-kdc-ldap && dpkg-deb --fsys-tarfile krb5-kdc-ldap_*.deb | tar -xO ".$doc" | zcat > "$kept") \
      > "$STATE/log/schema.log" 2>&1 || fail "the schema of Kerberos cannot be found; see $STATE/log/schema.log"
  fi
  cat "$kept"; printf '\n'
}

kerberos_entries() {
  cat <<LDIF

dn: cn=kdc,ou=services,dc=havrelune,dc=example
objectClass: applicationProcess
objectClass: simpleSecurityObject
cn: kdc
userPassword: $(cat "$STATE/kdc.account")

LDIF
}

krb5_conf() { # PORT PORT-OF-THE-AGENTS
  cat <<CONF
# Made by ./run. More realms may stand in files of their own.
includedir $STATE/krb5.d

[libdefaults]
  default_realm = $REALM
  default_ccache_name = FILE:$STATE/tickets
  dns_lookup_kdc = false
  dns_lookup_realm = false
  dns_canonicalize_hostname = false
  rdns = false
  forwardable = true
  udp_preference_limit = 1

[realms]
  $REALM = {
    kdc = 127.0.0.1:$1
  }
  $REALM_AGENTS = {
    kdc = 127.0.0.1:$2
  }

[domain_realm]
  .localhost = $REALM
  localhost = $REALM
CONF
}

kdc_conf() { # PORT PORT-OF-THE-AGENTS LDAP-PORT
  local realm port
  printf '[kdcdefaults]\n  kdc_listen = 127.0.0.1:%s\n  kdc_tcp_listen = 127.0.0.1:%s\n\n[realms]\n' "$1" "$1"
  for realm in $REALM $REALM_AGENTS; do
    port=$1; [ $realm = $REALM ] || port=$2
    cat <<CONF
  $realm = {
    kdc_listen = 127.0.0.1:$port
    kdc_tcp_listen = 127.0.0.1:$port
    key_stash_file = $STATE/kdc/stash.$realm
    acl_file = $STATE/kdc/acl
    database_module = directory
    max_life = 10h
    max_renewable_life = 7d
    supported_enctypes = aes256-cts-hmac-sha384-192:normal aes256-cts-hmac-sha1-96:normal aes128-cts-hmac-sha1-96:normal
  }
CONF
  done
  cat <<CONF

[dbmodules]
  directory = {
    db_library = kldap
    ldap_kerberos_container_dn = cn=kerberos,dc=havrelune,dc=example
    ldap_kdc_dn = cn=kdc,ou=services,dc=havrelune,dc=example
    ldap_kadmind_dn = cn=kdc,ou=services,dc=havrelune,dc=example
    ldap_service_password_file = $STATE/kdc/account
    ldap_servers = ldap://127.0.0.1:$3/
    ldap_conns_per_server = 3
    disable_last_success = true
    disable_lockout = true
  }

[logging]
  kdc = FILE:$STATE/log/kdc-requests.log
CONF
}

# What people and services are called in the realms, for kadmin.local.
principals() {
  local user password
  people_of_the_directory | while read -r user password; do
    printf 'addprinc -x dn=uid=%s,ou=people,dc=havrelune,dc=example +requires_preauth -pw %s %s\n' "$user" "$password" "$user"
  done
  printf 'modprinc -allow_forwardable elodie\n'
  printf 'addprinc -randkey HTTP/pass.havrelune.localhost\n'
  printf 'ktadd -k %s/keytabs/passeur.keytab HTTP/pass.havrelune.localhost\n' "$STATE"
  # The lock house, and the account that goes there on behalf of people: it may act for others, and to that one service alone.
  printf 'addprinc -randkey HTTP/lockhouse.havrelune.localhost\n'
  printf 'ktadd -k %s/keytabs/locks.keytab HTTP/lockhouse.havrelune.localhost\n' "$STATE"
  printf 'addprinc -randkey +ok_to_auth_as_delegate HTTP/gateway.havrelune.localhost\n'
  printf 'ktadd -k %s/keytabs/gateway.keytab HTTP/gateway.havrelune.localhost\n' "$STATE"
}

may_delegate() { # ACCOUNT SERVICE: what the directory team writes
  printf 'dn: krbPrincipalName=%s@%s,cn=%s,cn=kerberos,dc=havrelune,dc=example\nchangetype: modify\nadd: krbAllowedToDelegateTo\nkrbAllowedToDelegateTo: %s@%s\n' \
    "$1" $REALM $REALM "$2" $REALM
}

kadmin_local() { # REALM: reads its commands from stdin
  KRB5_CONFIG=$STATE/krb5.conf KRB5_KDC_PROFILE=$STATE/kdc/kdc.conf /usr/sbin/kadmin.local -r "$1"
}

start_kdc() { # PORT PORT-OF-THE-AGENTS LDAP-PORT
  local dir=$STATE/kdc realm
  mkdir -p "$dir" "$STATE/krb5.d" "$STATE/keytabs"
  krb5_conf "$1" "$2" > "$STATE/krb5.conf"
  kdc_conf "$1" "$2" "$3" > "$dir/kdc.conf"
  export KRB5_CONFIG=$STATE/krb5.conf KRB5_KDC_PROFILE=$dir/kdc.conf
  if [ "$(cat "$dir/ready" 2>/dev/null)" != "$(cat "$STATE/slapd/ready")" ]; then
    rm -f "$dir"/stash.* "$dir/account" "$STATE"/keytabs/*
    : > "$dir/acl"
    # What is made is told there with its passwords.
    (umask 077; : > "$STATE/log/realm.log")
    { for realm in $REALM $REALM_AGENTS; do
        # The stash of the account, and that of the realm's master key.
        [ -e "$dir/account" ] || printf '%s\n%s\n' "$(cat "$STATE/kdc.account")" "$(cat "$STATE/kdc.account")" |
          kdb5_ldap_util -D cn=root,dc=havrelune,dc=example -w "$(cat "$STATE/slapd.root")" stashsrvpw -f "$dir/account" cn=kdc,ou=services,dc=havrelune,dc=example
        kdb5_ldap_util -D cn=root,dc=havrelune,dc=example -w "$(cat "$STATE/slapd.root")" -H "ldap://127.0.0.1:$3/" \
          create $([ $realm = $REALM ] && echo -subtrees ou=people,dc=havrelune,dc=example -sscope SUB) -r $realm -s -P "$(random_text)" || return 1
      done
      principals | kadmin_local $REALM || return 1
      may_delegate HTTP/gateway.havrelune.localhost HTTP/lockhouse.havrelune.localhost |
        ldapmodify -x -H "ldap://127.0.0.1:$3/" -D cn=root,dc=havrelune,dc=example -y "$STATE/slapd.root" || return 1
      # One key for both sides: tickets of the agents' realm lead to the harbour's services.
      local between; between=$(random_text)
      printf 'addprinc -pw %s krbtgt/%s@%s\n' "$between" $REALM $REALM_AGENTS | kadmin_local $REALM || return 1
      printf 'addprinc -pw %s krbtgt/%s@%s\naddprinc -pw %s marin\n' "$between" $REALM $REALM_AGENTS "agents-anchor" | kadmin_local $REALM_AGENTS || return 1
    } > "$STATE/log/realm.log" 2>&1 || fail "the realms could not be made; see $STATE/log/realm.log"
    ! grep -q ' while ' "$STATE/log/realm.log" || fail "a principal could not be made; see $STATE/log/realm.log"
    cp "$STATE/slapd/ready" "$dir/ready"
  fi
  start kdc /usr/sbin/krb5kdc -n -r $REALM -r $REALM_AGENTS
  ready kdc "$1"
}
