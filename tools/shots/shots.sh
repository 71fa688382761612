#!/usr/bin/env bash
# Takes the pictures in docs/screenshots from the demo: a real terminal of 160 by 47 cells on a virtual display.
set -euo pipefail
cd "$(dirname "$0")/../.."

need() {
  command -v "$1" >/dev/null || missing="$missing $2"
}
missing=""
need Xvfb xvfb; need xterm xterm; need import imagemagick; need tmux tmux
fc-list 2>/dev/null | grep -q DejaVuSansMono || missing="$missing fonts-dejavu-core fontconfig"
if [ -n "$missing" ]; then
  apt-get update -qq
  # shellcheck disable=SC2086
  apt-get install -y -qq --no-install-recommends $missing
fi

out=docs/screenshots
work=$(mktemp -d)
andamio=$PWD/bin/andamio
export DISPLAY=:83
Xvfb $DISPLAY -screen 0 1280x800x24 >/dev/null 2>&1 &
display=$!
finish() {
  close
  [ -z "${sites:-}" ] || { kill "$sites" && wait "$sites"; } 2>/dev/null || true
  "$andamio" demo --stop --workspace "$work/ws" >/dev/null 2>&1 || true
  kill $display 2>/dev/null || true
  # what goes on without a screen, as runs do, would write into a folder that is being removed
  pkill -f -- "--workspace $work/" 2>/dev/null || true
  pkill -f -- "--token-file $work/" 2>/dev/null || true
  for _ in $(seq 100); do pgrep -f -- "--workspace $work/" >/dev/null || break; sleep 0.1; done
  rm -rf "$work"
}
trap finish EXIT
sleep 1

cat > "$work/tmux.conf" <<'END'
set -g status off
set -g escape-time 10
set -g default-terminal tmux-256color
set -ga terminal-overrides ",*:Tc"
END

# open COLUMNS ROWS ARGUMENTS... opens the program in a terminal.
open() {
  local w=$1 h=$2; shift 2
  tmux -L shots -f "$work/tmux.conf" new-session -d -x "$w" -y "$h" -c "$work" "sleep 1; COLORTERM=truecolor $andamio $*"
  xterm -fa 'DejaVu Sans Mono' -fs 10 -geometry "${w}x${h}+0+0" +sb -b 0 -e tmux -L shots attach >/dev/null 2>&1 &
  sleep 2.5
}
close() { tmux -L shots kill-server 2>/dev/null || true; sleep 0.5; }
press() { for k in "$@"; do tmux -L shots send-keys "$k"; sleep 0.3; done; }
await() { for _ in $(seq 600); do tmux -L shots capture-pane -p | grep -qE "$1" && return; sleep 0.1; done; echo "never seen: $1" >&2; exit 1; }
shot() { sleep 0.4; import -window root "$out/$1.png"; echo "$out/$1.png"; }

demo="demo --alone --workspace $work/ws --pace 0.6"
open 160 47 "$demo"
await 'ready to build'
press 1 Down
await 'this plan'
press 3 Down Down Right Right Right
await 'if it were pinned here'
sleep 0.5
shot place
press 2
await 'what it would build'
tmux -L shots send-keys '/'; tmux -L shots send-keys -l 'alert-dispatch:'; press Enter
shot design
press r
await 'not begun'
shot deploy-plan
press r Enter
await '4[0-9] of 96 steps'
shot deploy
await 'standing   96 of 96'
keep() { "$andamio" --workspace "$work/ws" "$@" >/dev/null; }
keep snapshot take flood-watch --name before-storm --of register --confirm flood-watch
keep level set "$PWD/examples/flood-watch/levels.yaml"
keep level give flood-watch levee --confirm flood-watch
keep lease flood-watch --for 30d --extend-by 14d --extend-times 2
press 5
await '8 of 8 answer'
await 'before-storm'
await 'ends .* left'
press Down Down
shot operate
press 6
await 'a new move'
press Right Down Down Down Space
tmux -L shots send-keys -l '12'; press Enter
press Right Down Down p
await 'paired with vega:'
press Enter
await 'lifts the rule'
press Left
press l Enter
await 'not begun'
shot move-plan
press r
await 'secrets do not travel'
tmux -L shots send-keys -l 'given again'; press Enter
await '[4-8][0-9]%'
shot move
await 'ready to cut over'
press c Enter
await 'moved, not committed'
shot move-done
press b Enter
await 'gone back'
press n Left Left Down Down Down Space Down Space Down Space
press m m t
tmux -L shots send-keys -l '4 FREQ=WEEKLY;BYDAY=SA,SU;BYHOUR=22;BYMINUTE=0;BYSECOND=0'; press Enter
press Right Up Up Up Up Up Down Space
tmux -L shots send-keys -l '0.02'; press Enter
press Right Up Up Up Up Up Down Down Down p
await 'alisio-sur is paired'
press Enter
await 'not begun'
shot move-waves
press Escape
press q
close
"$andamio" survey --deep --workspace "$work/ws" >/dev/null || true
"$andamio" sandbox drift --count 9 --seed 31 --workspace "$work/ws" >/dev/null
"$andamio" survey --workspace "$work/ws" >/dev/null || true
"$andamio" sandbox drift --count 7 --seed 5 --workspace "$work/ws" >/dev/null
"$andamio" sandbox load alisio-norte map-host-1 disk=97% --for 1h --workspace "$work/ws" >/dev/null
open 160 47 "$demo"
press 7 s
await '5 sites surveyed'
await 'recorded'
tmux -L shots send-keys '/'; tmux -L shots send-keys -l 'memory'; press Enter
press S Down Space Down Space
tmux -L shots send-keys '/'; tmux -L shots send-keys -l 'memory'; press Enter
await 'a plan'
shot reconcile
press m Right Right Right Down Down
await 'what serves what'
shot reconcile-map
press m 0
await 'critical since'
shot today
press 5
await 'critical'
press m
await 'map-host 1 .*[▁▂▃▄▅]'
press Down Down Down Down Down Down Down Down Down Right Right
sleep 1
shot operate-measures
press m
press 1 n Down Down Enter
tmux -L shots send-keys -l 'Tramonta 2'
await 'small letters'
press Escape Escape Escape
press q
close

# Two sites are in a network of their own, and are reached through the workers in it.
"$andamio" serve --stop --workspace "$work/ws" >/dev/null 2>&1 || true
"$andamio" serve --workspace "$work/ws" --address 127.0.0.1:0 --api 127.0.0.1:0 >"$work/served" 2>&1 &
for _ in $(seq 100); do grep -q 'programs at' "$work/served" && break; sleep 0.1; done
"$andamio" token make workers --right connect --workspace "$work/ws" --json | grep -o 'andamio_[A-Za-z0-9_-]*' | head -1 >"$work/token"
for name in sluice-1 sluice-2; do
  "$andamio" work --join "$(grep -oE 'http://[0-9.:]+' "$work/served" | tail -1)" --pool dam-house --name "$name" --label floor="${name#sluice-}" --token-file "$work/token" >/dev/null 2>&1 &
done
for _ in $(seq 100); do [ "$("$andamio" workers --workspace "$work/ws" 2>/dev/null | grep -c sluice)" = 2 ] && break; sleep 0.1; done
"$andamio" site through presa dam-house --workspace "$work/ws" >/dev/null
"$andamio" site through vega dam-house floor=2 --workspace "$work/ws" >/dev/null

cp -r examples/flood-watch "$work/lab"
sed -i 's/name: flood-watch/name: flood-lab/' "$work/lab/template.yaml"
open 160 47 "--workspace $work/ws --template $work/lab"
press 1 Down
await 'this plan'
await 'its own time to answer'
await 'sluice-2 [0-9.]+ ms'
shot sites
press q
close

sed -i 's/- host: gauge-node/- host: gauge-noed/; s/num_cpus: 4, mem_size: 16 GiB/num_cpus: 4, mem_size: 16 MB/' "$work/lab/template.yaml"
open 160 47 "--workspace $work/ws --template $work/lab"
press 2
await '1 mistake'
press f
shot design-mistakes
press q
close

cp -r examples/flood-watch/. "$work/lab/"
sed -i 's/name: flood-watch/name: flood-lab/' "$work/lab/template.yaml"
printf '#!/bin/sh\necho "reading the register"\nsleep 1\necho "the register answers: locked"\nexit 4\n' > "$work/lab/scripts/dispatch-configure.sh"
open 160 47 "--light --workspace $work/ws --template $work/lab"
press 2
await 'no mistakes'
press N
tmux -L shots send-keys -l 'lab'
press Enter
await 'as lab'
await 'resources'
press r
await 'not begun'
press r Enter
await 'waits for you: 1 of 2'
await 'failed   [0-9]+ of'
shot deploy-failed-light
press q
close

# Requests, asked by people of the scenario and decided by rule or by Lia: whoever is at the keyboard is another of them each time.
gov=$work/gov
"$andamio" sandbox --workspace "$gov" --estate examples/flood-watch/estate.json --pace 0.1 --quiet &
sites=$!
sleep 2
be() { sed "s/user: $1\b/user: $(id -un)/" examples/flood-watch/teams.yaml > "$gov/teams.yaml"; chmod 600 "$gov/teams.yaml"; }
as() { be "$1"; shift; ANDAMIO_SERVE=off "$andamio" "$@" --workspace "$gov" >/dev/null; }
as ana quota set examples/flood-watch/quotas.yaml
as ana level set examples/flood-watch/levels.yaml
as ana decide rules set examples/flood-watch/approvals.yaml
for o in trial-map worker-pool gauge-node; do as ana offer publish "examples/offers/$o.yaml"; done
as ibo request ask trial-map -a fronts=2 --yes --wait --why 'for the open day of the museum'
as eva request ask gauge-node -a 'reach=lower reach' --yes --wait
as teo request ask trial-map --yes --wait --why 'levels of the model beside those of the gauges'
as teo request ask worker-pool -a workers=2 --yes --why 'October is to be reckoned again'
as teo request ask worker-pool -a workers=6 -a cores=hurried --yes --why 'the forecast of Thursday says 4.2 m at the bridge'
as teo request say 5 'rain began at noon'
as ibo request ask trial-map -a fronts=3 --yes || true # more than one person has
be ana
open 160 47 "--workspace $gov"
press 8
await 'waits .* for you'
await 'pool-host'
shot govern
press q
close
be teo
open 160 47 "--workspace $gov"
await '2 offers for you'
press Tab Down Right
await 'middling'
await 'what happens when you ask'
shot ask
press q
close
kill $sites && wait $sites || true

# A run of about 10,000 steps, on stand-ins with room for it.
mkdir "$work/wide"
cat > "$work/wide/template.yaml" <<'END'
tosca_definitions_version: tosca_simple_yaml_1_3
metadata: { template_name: basin-wide }
topology_template:
  node_templates:
    lan: { type: tosca.nodes.network.Network, properties: { network_name: lan, cidr: 10.0.0.0/16 } }
    gauge-host:
      type: tosca.nodes.Compute
      capabilities:
        host: { properties: { num_cpus: 1, mem_size: 1 GiB, disk_size: 8 GiB } }
        scalable: { properties: { min_instances: 1, max_instances: 4000, default_instances: 1428 } }
    gauge-port: { type: tosca.nodes.network.Port, requirements: [ binding: gauge-host, link: lan ] }
    gauge:
      type: tosca.nodes.WebServer
      capabilities: { data_endpoint: { properties: { protocol: http, port: 8080 } } }
      requirements: [ host: gauge-host ]
      interfaces: { Standard: { create: part.sh, configure: part.sh, start: start.sh } }
END
printf 'echo unpack\nsleep 1\n' > "$work/wide/part.sh"
printf 'sleep 1\nhttpd -p 8080 -h /srv\n' > "$work/wide/start.sh"
site() { # NAME KIND CORES PRICE
  printf '{"name": "%s", "kind": "%s", "network": "address", "pace": 1, "free_form": true, "zones": [{"name": "a", "free": {"cores": %s, "memory_gib": 4000, "disk_gib": 90000}}], "images": [{"name": "debian-12", "os": "linux"}], "prices": {"core": %s, "memory_gib": 0.01, "disk_gib": 0.001, "address": 0}, "timings": {"network": 2, "volume": 4, "instance": 6, "interface": 0.5, "attachment": 1}}' "$1" "$2" "$3" "$4"
}
printf '{"version": "andamio.estate/1", "currency": "cr", "sites": [%s, %s, %s]}' "$(site presa edge 400 0.02)" "$(site vega private 600 0.03)" "$(site alisio-norte public 2000 0.04)" > "$work/wide/estate.json"
"$andamio" sandbox --workspace "$work/wide-ws" --estate "$work/wide/estate.json" --pace 0.15 --quiet &
sites=$!
sleep 2
open 160 47 "--workspace $work/wide-ws --template $work/wide"
press 2
await 'no mistakes'
press r
await '9 in 10'
press r Enter
await '[5-9][0-9][0-9] of 999[0-9] steps'
press z z z z
shot deploy-10000
press q
close
kill $sites && wait $sites || true
