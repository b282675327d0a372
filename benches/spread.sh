#!/usr/bin/env bash
# Spreads a summary over two hosts with GNU parallel and ssh, and compares it with the same summary in one run.
#
#   benches/spread.sh [PROGRAM [ROWS]]
#
# The hosts are network namespaces of this machine, each with an sshd of its own; they see the same files, as hosts with a
# shared folder do. It needs root, iproute2, OpenSSH and GNU parallel, and leaves nothing behind. One part is lost on the
# way, and made again by itself.
set -euo pipefail
oeuvre=$(realpath "${1:-target/release/oeuvre}")
rows=${2:-1000000}
work=$(mktemp -d)
cleanup() {
  for pid in "$work"/sshd-*.pid; do [ -e "$pid" ] && kill "$(cat "$pid")" 2>/dev/null; done
  for host in one two; do ip netns del "oeuvre-$host" 2>/dev/null || true; done
  ip link del oeuvre-bridge 2>/dev/null || true
  rm -rf "$work"
}
trap cleanup EXIT

# Two hosts on a bridge.
ip link add oeuvre-bridge type bridge
ip addr add 10.77.0.1/24 dev oeuvre-bridge
ip link set oeuvre-bridge up
ssh-keygen -q -t ed25519 -N '' -f "$work/key"
ssh-keygen -q -t ed25519 -N '' -f "$work/host"
mkdir -p /run/sshd
n=2
for host in one two; do
  ip netns add "oeuvre-$host"
  ip link add "oeuvre-$host" type veth peer name eth0 netns "oeuvre-$host"
  ip link set "oeuvre-$host" master oeuvre-bridge up
  ip -n "oeuvre-$host" addr add "10.77.0.$n/24" dev eth0
  ip -n "oeuvre-$host" link set eth0 up
  ip -n "oeuvre-$host" link set lo up
  ip netns exec "oeuvre-$host" "$(command -v sshd)" -h "$work/host" -o "PidFile=$work/sshd-$host.pid" \
    -o "AuthorizedKeysFile=$work/key.pub" -o StrictModes=no -o PasswordAuthentication=no -o UsePAM=no \
    -o "ListenAddress=10.77.0.$n" -o LogLevel=ERROR
  n=$((n + 1))
done
cat > "$work/ssh_config" <<CONFIG
Host 10.77.0.*
  IdentityFile $work/key
  StrictHostKeyChecking no
  UserKnownHostsFile /dev/null
  LogLevel ERROR
CONFIG

# The rows, in eight files.
"$oeuvre" demo "$work/data" --rows "$rows" > "$work/demo.txt"
cd "$work/data"
for k in 0 1 2 3 4 5 6 7; do
  "$oeuvre" detail bookings.csv --where "mod(booking_id, 8) = $k" --to "bookings-$k.csv" --quiet
done

ask=(--by route --columns-by 'year(sailed_on)' --show 'sum(fare * passengers)' --show 'median(fare)'
  --show 'count(distinct customer_id)' --where "status = 'sailed'" --totals)
words=$(printf '%q ' "${ask[@]}")

time_of() { local from; from=$(date +%s%N); "$@" >&2; echo $((($(date +%s%N) - from) / 1000000)); }
hosts() {
  parallel --jobs 1 --ssh "ssh -F $work/ssh_config" --sshlogin 10.77.0.2,10.77.0.3 --workdir "$work/data" \
    "ls {.}.oeu > /dev/null 2>&1 || $oeuvre part {} $words --to {.}.oeu --quiet --threads 1" ::: bookings-?.csv
}
whole() { "$oeuvre" summary bookings-?.csv "${ask[@]}" --as csv --threads 1 > whole.csv 2> whole.txt; }
assembled() { "$oeuvre" assemble bookings-?.oeu --as csv > parts.csv 2> parts.txt; }

echo "one run, one thread: $(time_of whole) ms"
echo "eight parts on two hosts, one thread each: $(time_of hosts) ms"
rm bookings-5.oeu # a worker that was lost
echo "the lost one again: $(time_of hosts) ms"
echo "assembled: $(time_of assembled) ms"
cmp whole.csv parts.csv
cmp whole.txt parts.txt
echo "the same table and the same ledger, from $(cat bookings-?.oeu | wc -c) bytes of parts"
