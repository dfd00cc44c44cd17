# The pilots' tunnel of the demo: an OpenVPN server on the yard's router, and a pilot's machine at sea. Sourced by ./run, after demo/yard.sh.
PACKAGES_TUNNEL="openvpn openssl curl"

# Why there can be no tunnel here; nothing where there can.
tunnel_hindrance() {
  yard_hindrance && return 0
  unshare $YARD_USER --net sh -c 'ip tuntap add dev t0 mode tun' 2>/dev/null && return 1
  printf '%s' "there is no /dev/net/tun here, or this user may not use it. Load it (modprobe tun), or run the demo as root"
}

tunnel_keys() { # the server's key, certified by the gate's own authority
  passeur secret list 2>/dev/null | grep -q '^tunnel-authority .*missing' && passeur secret make-key tunnel-authority --authority --years 5 > /dev/null
  [ -s server.key ] || (umask 077; openssl ecparam -name prime256v1 -genkey -noout -out server.key) || return 1
  openssl pkey -in server.key -pubout -out server.pub &&
  passeur profile server tunnel --host vpn.havrelune.example --public-key server.pub > server.pem && passeur profile authority tunnel > ca.pem
}

tunnel_server() { # ENTRANCE DEVICE PORT NET [NET6]
  local t=$STATE/tunnel nopool=" nopool"
  [ -z "${5:-}" ] || nopool=""
  mkdir -p "$t/m-$1"; chmod 700 "$t/m-$1"; rm -f "$t/m-$1"/*.sock
  cat > "$t/$1.conf" <<CONF
dev $2
dev-type tun
proto udp
local 198.51.100.1
port $3
topology subnet
server $4.0 255.255.255.0$nopool
${5:+server-ipv6 $5/64}
ca ca.pem
cert server.pem
key server.key
dh none
verify-client-cert optional
management m-$1/$1.sock unix
management-hold
management-client-auth
auth-user-pass-optional
duplicate-cn
auth-gen-token 0 external-auth
keepalive 10 60
hand-window 120
ifconfig-noexec
verb 3
CONF
  local as=()
  if [ -z "$YARD_USER" ]; then # as a user that may do nothing: its device is made beforehand
    yard_in ip tuntap add dev "$2" mode tun user nobody || return 1
    [ -e "$t/tun" ] || mknod -m 666 "$t/tun" c 10 200
    printf 'dev-node %s/tun\n' "$t" >> "$t/$1.conf"
    chown nobody "$t/m-$1" "$t/server.key"
    as=(setpriv --reuid nobody --regid nogroup --clear-groups --inh-caps -all --bounding-set -all --no-new-privs)
  else
    yard_in ip tuntap add dev "$2" mode tun || return 1
  fi
  yard_in ip addr add "$4.1/24" dev "$2"
  [ -z "${5:-}" ] || yard_in ip addr add "${5}1/64" dev "$2" nodad
  yard_in ip link set "$2" up
  start "tunnel-$1" "${YARD_IN[@]}" "${as[@]}" openvpn --cd "$t" --config "$1.conf"
}

tunnel_start() { # within the yard, before its sluice and its node
  local t=$STATE/tunnel why
  TUNNEL_SLUICE=(); TUNNEL_NODE=()
  if why=$(tunnel_hindrance); then say "The pilots' tunnel is left out: $why"; return 0; fi
  say "starting the pilots' tunnel: an OpenVPN server, and a machine at sea"
  mkdir -p "$t"; chmod 755 "$t"
  (cd "$t" && tunnel_keys) || fail "the tunnel's certificates could not be made"
  yard_in sh -e <<'WIRES' || fail "the machine at sea could not be made"
ip netns add pilot && ip -n pilot link set lo up
ip link add name sea0 type veth peer name eth0 netns pilot && ip link set sea0 up && ip -n pilot link set eth0 up
ip addr add 198.51.100.1/24 dev sea0 && ip -n pilot addr add 198.51.100.7/24 dev eth0
for a in 10.70.0.1 192.0.2.10; do ip -n pilot route add $a via 198.51.100.1; done
ip -n internet route add 198.51.100.0/24 via 10.88.0.1
ip -n internet route add 10.71.0.0/24 via 10.88.0.1 && ip -n internet -6 route add fd71:71::/64 via fd88::1
nft 'table inet sea { chain forward { type filter hook forward priority -10; iifname "sea0" ip daddr 192.0.2.10 accept; iifname "sea0" drop; }; }'
WIRES
  tunnel_server pilots tun-pilots 1194 10.71.0 fd71:71:: && tunnel_server pilots-trial tun-trial 1195 10.72.0 || fail "the tunnel's devices could not be made"
  # Names under localhost are the machine's own; a relay does what a resolver would elsewhere.
  start tunnel-sea "${YARD_IN[@]}" ip netns exec pilot "$(TARGET)/debug/passeur-standins" relay --pass tcp:127.0.0.1:8640=tcp:10.70.0.1:8640 \
    --pass tcp:127.0.0.1:8641=tcp:192.0.2.10:8641
  TUNNEL_SLUICE=(--interface tun-pilots --interface tun-trial)
  TUNNEL_NODE=(--tunnel "pilots=$t/m-pilots/pilots.sock,pilots-trial=$t/m-pilots-trial/pilots-trial.sock")
  : > "$t/there"
}

tunnel_stop() {
  local s p
  for s in tunnel-pilots tunnel-pilots-trial tunnel-sea; do end $s; done
  # Clients that demo/tunnel/connect left running, each by its own number while that is an OpenVPN client still.
  for p in "$STATE"/tunnel/client-*.pid; do
    [ -s "$p" ] && grep -qs "$STATE/tunnel" "/proc/$(cat "$p")/cmdline" && kill "$(cat "$p")"
    rm -f "$p"
  done
  rm -f "$STATE/tunnel/there"
}

tunnel_words() {
  [ -e "$STATE/tunnel/there" ] || return 0
  cat <<TEXT
  By the pilots' tunnel (a machine at sea that reaches nothing else of the harbour)
    ./run yard pilot -- demo/tunnel/connect anouk   a pilot connects, and signs in with the second factor
    ./run yard pilot -- curl -s http://10.88.0.2/   the pilot office, through the tunnel
    passeur present list                            who is on, by which entrance, from where

TEXT
}
