# The yard network of the demo: a router, two machines and an "internet" in network namespaces of the demo's own. Sourced by ./run.
#
# Nothing on the host's network is touched. The router's node reaches PostgreSQL, the directory, the provider and the mail box of the demo
# through Unix sockets, which no network namespace keeps apart; so do the servers of the "internet".
PACKAGES_YARD="nftables dnsmasq-base isc-dhcp-client iproute2 curl openvpn"

# Why there can be no yard here; nothing where there can.
yard_hindrance() {
  if [ "$(id -u)" = 0 ]; then YARD_USER=""; else YARD_USER="--user --map-root-user"; fi
  unshare $YARD_USER --net --mount true 2>/dev/null && return 1
  printf '%s' "this user may not make network namespaces here. Run it as root, or allow them: sysctl -w kernel.unprivileged_userns_clone=1"
}

# What runs a command in the router's namespaces: in YARD_IN, for `start`, which runs no function.
yard_enter() {
  YARD_IN=(nsenter -t "$(cat "$STATE/yard/pid")")
  [ "$(id -u)" = 0 ] || YARD_IN+=(--user --preserve-credentials)
  YARD_IN+=(--net --mount --wd="$ROOT" --)
}

yard_in() { yard_enter; "${YARD_IN[@]}" "$@"; }

yard_on() { # MACHINE COMMAND…: on a machine of the yard, with its own resolver
  local machine=$1; shift
  yard_in ip netns exec "$machine" sh -c 'f=$1; shift; if [ -s "$f" ]; then mount --bind "$f" /etc/resolv.conf; fi; exec "$@"' sh "$STATE/yard/resolv.$machine" "$@"
}

yard_net() { # the wires, made inside
  cat <<'WIRES'
set -e
sysctl -qw net.ipv6.conf.default.accept_dad=0 net.ipv6.conf.all.accept_dad=0
ip link add name yard0 type bridge && ip link set yard0 address 02:70:00:00:00:01 up
ip addr add 10.70.0.1/24 dev yard0 && ip addr add fd70:70::1/64 dev yard0 nodad && ip addr add fe80::1/64 dev yard0 nodad
ip netns add internet && ip -n internet link set lo up
ip link add name wan0 type veth peer name eth0 netns internet && ip link set wan0 up && ip -n internet link set eth0 up
ip addr add 10.88.0.1/24 dev wan0 && ip addr add fd88::1/64 dev wan0 nodad
ip -n internet addr add 10.88.0.2/24 dev eth0 && ip -n internet addr add fd88::2/64 dev eth0 nodad
ip -n internet route add default via 10.88.0.1 && ip -n internet -6 route add default via fd88::1
for a in 192.0.2.3 192.0.2.10 192.0.2.11 10.80.4.7; do ip -n internet addr add $a/32 dev lo; ip route add $a via 10.88.0.2; done
for a in 2001:db8:88::3 fd80:4::7; do ip -n internet addr add $a/128 dev lo nodad; ip -6 route add $a via fd88::2; done
sysctl -qw net.ipv4.ip_forward=1 net.ipv6.conf.all.forwarding=1
n=0
for m in visitor:02:70:00:00:00:09 tablet:02:70:00:00:00:0a; do
  name=${m%%:*}
  ip netns add $name && ip -n $name link set lo up
  ip link add name port$n type veth peer name eth0 netns $name address ${m#*:} && ip link set port$n master yard0 up
  ip netns exec $name sysctl -qw net.ipv6.conf.eth0.accept_ra=2 net.ipv6.conf.eth0.accept_dad=0
  ip -n $name link set eth0 up
  n=$((n + 1))
done
WIRES
}

yard_start() { # after the demo's own servers
  local why bin=$(TARGET)/debug y=$STATE/yard d s
  if why=$(yard_hindrance); then say "The yard network is left out: $why"; rm -f "$y/pid"; return 0; fi
  say "starting the yard network: router, sluice, a visitor's machine, a crane tablet"
  mkdir -p "$y"; rm -f "$y"/*.sock "$y"/pid "$y"/resolv.* "$y"/captive.*
  yard_net > "$y/wires"
  start yard-holder unshare $YARD_USER --net --mount --fork --kill-child sh -c \
    'mount -t tmpfs run /run && mkdir -p /run/netns && ip link set lo up && sh "$1/wires" && echo $$ > "$1/pid.new" && mv "$1/pid.new" "$1/pid" && exec sleep infinity' sh "$y"
  for s in $(seq 1 100); do [ -s "$y/pid" ] && break; alive yard-holder || fail "the yard's namespaces could not be made; see $STATE/log/yard-holder.log"; sleep 0.1; done
  [ -s "$y/pid" ] || fail "the yard's namespaces could not be made; see $STATE/log/yard-holder.log"
  yard_enter
  # Out of the host's loopback, and into the router's and the internet's.
  local out=() in=()
  for d in 8654 8645 8641 8646 8644; do out+=(--pass "unix:$y/$d.sock=tcp:127.0.0.1:$d"); in+=(--pass "tcp:127.0.0.1:$d=unix:$y/$d.sock"); done
  start yard-out "$bin/passeur-standins" relay "${out[@]}"
  start yard-in "${YARD_IN[@]}" "$bin/passeur-standins" relay "${in[@]}"
  start yard-internet "${YARD_IN[@]}" ip netns exec internet "$bin/passeur-standins" relay \
    --pass "tcp:192.0.2.10:8641=unix:$y/8641.sock" --pass "tcp:192.0.2.11:8644=unix:$y/8644.sock"
  start yard-news "${YARD_IN[@]}" ip netns exec internet "$bin/passeur-standins" ledger --listen "[::]:80"
  start yard-crane "${YARD_IN[@]}" ip netns exec internet "$bin/passeur-standins" cranes --listen "[::]:443"
  # Names under localhost are the machine's own: what a resolver would say elsewhere, a relay does here.
  for d in visitor tablet; do
    start "yard-$d" "${YARD_IN[@]}" ip netns exec $d "$bin/passeur-standins" relay --pass tcp:127.0.0.1:8640=tcp:10.70.0.1:8640 \
      --pass tcp:127.0.0.1:8641=tcp:192.0.2.10:8641 --pass tcp:127.0.0.1:8644=tcp:192.0.2.11:8644
  done
  cat > "$y/dnsmasq.conf" <<CONF
no-resolv
no-hosts
port=5353
interface=yard0
except-interface=lo
bind-interfaces
dhcp-range=10.70.0.100,10.70.0.150,255.255.255.0,600
dhcp-host=02:70:00:00:00:0a,10.70.0.10,tablet-3
dhcp-authoritative
no-ping
dhcp-range=fd70:70::,static,64,600
dhcp-leasefile=$y/leases
dhcp-option=114,http://yard.havrelune.localhost:8640/.passeur/captive
dhcp-option=option6:103,http://yard.havrelune.localhost:8640/.passeur/captive
dhcp-option=option:dns-server,10.70.0.1
dhcp-option=option6:dns-server,[fd70:70::1]
address=/news.havrelune.example/192.0.2.3
address=/news.havrelune.example/2001:db8:88::3
address=/crane-7.havrelune.example/10.80.4.7
address=/cranes.havrelune.example/10.80.4.7
CONF
  start yard-dnsmasq "${YARD_IN[@]}" dnsmasq -k -C "$y/dnsmasq.conf" --pid-file= --user=root
  tunnel_start
  start yard-sluice "${YARD_IN[@]}" "$bin/passeur-sluice" "${TUNNEL_SLUICE[@]}" --peer "$(if [ -z "$YARD_USER" ]; then id -u; else echo 0; fi)" --interface yard0 --socket "$y/sluice.sock"
  start yard-advert "${YARD_IN[@]}" "$bin/passeur-advert" --interface yard0 --portal http://yard.havrelune.localhost:8640/.passeur/captive \
    --prefix fd70:70:: --resolver fd70:70::1 --other
  for s in $(seq 1 50); do [ -S "$y/sluice.sock" ] && [ -S "$y/8654.sock" ] && break; sleep 0.1; done
  start yard-node "${YARD_IN[@]}" env KRB5_CONFIG="$STATE/krb5.conf" "$bin/passeur" serve --node yard-router --listen 0.0.0.0:8640 \
    --database-file "$STATE/database" --key-ring "$STATE/key-ring" --emergency-file "$STATE/emergency" --krb5-config "$STATE/krb5.conf" \
    --sluice "$y/sluice.sock" --led-listen "[::]:8650" \
    --names-listen "10.70.0.1:53,[fd70:70::1]:53" --names-from 10.70.0.1:5353 --leases "$y/leases" "${TUNNEL_NODE[@]}"
  for d in visitor tablet; do
    : > "$y/resolv.$d"; : > "$y/dhclient.$d"
    yard_in ip netns exec $d dhclient -4 -1 -q -e "YARD_RESOLV=$y/resolv.$d" -e "YARD_CAPTIVE=$y/captive.$d" -cf "$ROOT/demo/yard/dhclient.conf" -sf "$ROOT/demo/yard/lease" \
      -lf "$y/dhclient.$d" -pf "$y/dhclient.$d.pid" eth0 > "$STATE/log/yard-dhclient-$d.log" 2>&1 || fail "the $d got no address; see $STATE/log/yard-dhclient-$d.log"
  done
  for s in $(seq 1 100); do
    [ "$(yard_on visitor curl -s -o /dev/null -m 2 -w '%{http_code}' http://news.havrelune.example/)" = 302 ] && return 0
    alive yard-node || fail "the yard's node did not come up; see $STATE/log/yard-node.log"
    sleep 0.1
  done
  fail "the yard is not guarded; see $STATE/log/yard-node.log and $STATE/log/yard-sluice.log"
}

yard_stop() {
  local s
  for s in yard-node yard-advert yard-sluice yard-dnsmasq yard-visitor yard-tablet yard-news yard-crane yard-internet yard-in yard-out yard-holder; do end $s; done
  rm -f "$STATE/yard/pid"
}

yard_words() {
  [ -s "$STATE/yard/pid" ] || return 0
  cat <<TEXT
  On the yard network (a visitor's machine and a crane tablet behind a router of their own)
    ./run yard visitor -- curl -si http://news.havrelune.example/      led to the portal, until somebody signs in
    ./run yard visitor -- curl -s http://yard.havrelune.localhost:8640/.passeur/captive
    ./run yard tablet -- curl -s http://crane-7.havrelune.example:443/ a machine without a person, and its one reach
    passeur present list                            who is on, with what
    passeur reach try 10.80.4.7:443 --provider pilotage --subject p-1004

TEXT
}
