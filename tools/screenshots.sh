#!/bin/sh
# screenshots.sh PRAVET FOLDER takes one picture of each main command's output,
# on the example, in a terminal on a screen that nobody sees.
set -eu
pravet=$(realpath "$1")
mkdir -p "$2"
out=$(realpath "$2")
examples=$(realpath examples)
work=$(mktemp -d)
trap 'kill "$screen" 2>/dev/null || true; rm -rf "$work"' EXIT
mkdir "$work/bin"
ln -s "$pravet" "$work/bin/pravet"
export PATH="$work/bin:$PATH"

display=:$((90 + $$ % 900))
Xvfb "$display" -screen 0 1280x800x24 >/dev/null 2>&1 &
screen=$!
export DISPLAY="$display"
for _ in $(seq 50); do [ -e "/tmp/.X11-unix/X${display#:}" ] && break; sleep 0.1; done

# shot NAME COMMAND: what a terminal shows after the command.
shot() {
	rm -f "$work/done"
	xterm -geometry 139x41+0+0 -fa 'DejaVu Sans Mono' -fs 11 -bg '#101418' -fg '#d8dee6' -xrm 'XTerm*scrollBar: false' -xrm 'XTerm*internalBorder: 12' \
		-e sh -c 'printf "\033[?25l"; COLORTERM=truecolor TERM=xterm-256color sh -c "$0"; touch "$1"; sleep 20' "$2" "$work/done" &
	term=$!
	for _ in $(seq 100); do [ -e "$work/done" ] && break; sleep 0.1; done
	sleep 0.6
	import -window root "$out/$1.png"
	kill "$term" 2>/dev/null || true
	wait "$term" 2>/dev/null || true
}
# midway NAME SECONDS COMMAND: what a terminal shows while the command goes on.
midway() {
	xterm -geometry 139x41+0+0 -fa 'DejaVu Sans Mono' -fs 11 -bg '#101418' -fg '#d8dee6' -xrm 'XTerm*scrollBar: false' -xrm 'XTerm*internalBorder: 12' \
		-e sh -c 'printf "\033[?25l\033[2m\$\033[0m %s\n" "$0"; COLORTERM=truecolor TERM=xterm-256color sh -c "$0"; sleep 20' "$3" &
	term=$!
	sleep "$2"
	import -window root "$out/$1.png"
	kill "$term" 2>/dev/null || true
	wait "$term" 2>/dev/null || true
}
# page NAME FILE: what a browser shows of a page.
page() {
	chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking \
	--disable-component-update --disable-sync --hide-scrollbars --user-data-dir="$work/chromium" --window-size=1280,800 \
	--screenshot="$out/$1.png" "file://$PWD/$2" >/dev/null 2>&1
}
# run NAME COMMAND ...: the commands, typed one after the other.
run() {
	name=$1
	shift
	script=
	for command in "$@"; do
		shown=$(printf '%s' "$command" | sed "s/'/'\\\\''/g")
		script="$script printf '\\033[2m\$\\033[0m %s\\n' '$shown'; $command; echo;"
	done
	shot "$name" "$script"
}

pravet demo --keep "$work/m" --no-walk >/dev/null
cd "$work/m"
pravet draft --on 2026-11-24 >/dev/null
id=$(basename plans/*.json .json)
run draft 'pravet draft --on 2026-11-24' "pravet show $id --person E0118"
run causes "pravet show --group-by cause --app tickets"
# A review that was begun before, and the same plan as a page.
printf '%s\n' "lift 1 because the summer crew ended together" "accept 1 because agreed with the crew office" quit |
	pravet review --plain >/dev/null
midway review 3 'pravet review'
pravet review --page plan.html >/dev/null
page page plan.html
run why 'pravet why E0042 --on 2026-11-24' 'pravet why E0031 tickets/role/refund-approver --on 2026-11-24'
run compare 'pravet compare HEAD~2 --on 2026-11-24'
run seats 'pravet seats --on 2026-11-24' "pravet seats --ahead P7M --on 2026-11-24 --plot seats-plot.png" "pravet holders tickets/role/till-lead --on 2026-11-24" "pravet list people --only 'department eq \"Planning\"' --on 2026-11-24"
cp seats-plot.png "$out/seats-plot.png"
pravet accept "$id" --lift suspensions --because 'the summer crew ended together' >/dev/null
pravet accept "$id" --because 'read with Idris Keane' >/dev/null
run apply "pravet apply $id --yes" 'pravet draft --on 2026-11-24'
run log 'pravet log --person E0042' 'pravet log' 'pravet log verify'

# Who decides, with a signature, and a stranger who proves it.
pravet demo --keep "$work/g" --no-walk >/dev/null
cd "$work/g"
for who in E0007 E0062; do
	ssh-keygen -q -t ed25519 -N '' -C '' -f "../$who"
	mkdir -p keys
	printf '%s %s\n' "$who" "$(cat "../$who.pub")" >>keys/allowed_signers
done
cat >>pravet.yaml <<'YAML'
decisions: {signed: true, keys: keys/allowed_signers}
deciders:
  - {changes: app eq "tickets", people: {kit: ticket-administrators}, count: 2, not: [drafter, subject]}
  - {changes: app eq "rosters", people: {owner: true}}
YAML
git add . && git -c user.name='Farah Linden' -c user.email=farah.linden@marrowick.example commit --quiet -m 'Decisions are signed, and the files say who decides'
pravet --by 'Farah Linden' draft >/dev/null
signed=$(basename plans/*.json .json)
pravet accept "$signed" --app tickets --because 'reviewed with the desks' --key ../E0007 >/dev/null
run together 'pravet list waiting' "pravet accept $signed --person E0042,E0034 --app tickets --because 'as agreed' --key ../E0062" \
	'pravet log --kind decision' 'pravet report evidence --from 2026-11-01 --to 2027-12-31 --out e.tar.gz' 'tar xzf e.tar.gz && sh evidence/verify.sh'

# Those who leave, a day or more after Noor Haddad's account was suspended.
pravet demo --keep "$work/l" --no-walk >/dev/null
cd "$work/l"
mkdir paths
cat >paths/ashore.yaml <<'YAML'
paths:
  ashore:
    for: userType eq "Employee"
    rank: 1
    when: ended
    steps:
      - {do: suspend}
      - {after: P30D, do: strip, keep: [licenses]}
      - {after: P90D, do: remove, warn: P7D}
  season:
    for: userType eq "Seasonal"
    rank: 2
    when: ended
    steps: [{do: suspend}, {after: P1M, do: strip}, {do: stay}]
YAML
pravet draft >/dev/null
left=$(basename plans/*.json .json)
pravet accept "$left" --person E0025 --because 'her last day is over' >/dev/null
pravet apply "$left" >/dev/null 2>&1 || true
run leaving 'pravet list leaving' 'pravet why E0025' 'pravet list leaving --only "done pr" --columns app,account,path,step,steps,done,since,next,due'
run ahead 'pravet ahead --for P6M'
# What is there already: a spreadsheet, edits in bulk, an application to take over, rules, a report.
pravet demo --keep "$work/t" --no-walk >/dev/null
cd "$work/t"
cat >mapped <<'SH'
--date DD.MM.YYYY --number E#### --into people/ashore.csv
SH
cat >"$work/bin/taken" <<'SH'
#!/bin/sh
exec pravet intake intake/monday.csv --date DD.MM.YYYY --number 'E####' --into people/ashore.csv \
	--map 'userName={join: [First name, Last name], with: ".", case: lower, plain: true}' \
	--map 'displayName={join: [First name, Last name], with: " "}' "$@"
SH
chmod +x "$work/bin/taken"
rm mapped
taken --save monday --skip-wrong --write --brief >/dev/null 2>&1 || true
git checkout -q people
run intake 'pravet intake monday'
git checkout -q .
pravet adopt --app slips exports/slips.csv --yes-above 60 --write --brief 2>/dev/null
run propose 'pravet propose --app slips --sure 60' 'pravet propose --app slips --sure 60 --write --brief' 'pravet draft --app slips'
id=$(pravet draft --app tickets | grep -o 'plans/[a-z0-9]*' | cut -d/ -f2)
pravet accept "$id" --because 'read with Idris Keane' >/dev/null
pravet apply "$id" --yes >/dev/null 2>&1 || true
pravet report seats administrators changes approvals --out report.html
page report report.html

# Berth planning, reached by SCIM while it is in use: played by a stand-in.
pravet demo --keep "$work/live" --no-walk >/dev/null
cd "$work/live"
cat >>kits/ashore.yaml <<'YAML'
  berth-viewing:
    title: Everybody sees the plan
    everyone: true
    gives: {berths: {roles: [viewer]}}
YAML
sed -i 's/^guards:/guards:\n  widening: 500/' pravet.yaml
export BERTHS_TOKEN=made-up
# play FAULT ...: berth planning is played anew, as it was left.
play() {
	[ -z "${played:-}" ] || { kill "$played"; wait "$played" 2>/dev/null || true; }
	args=
	for fault in "$@"; do args="$args --fault $fault"; done
	# shellcheck disable=SC2086
	pravet standin serve berths --at 127.0.0.1:8449 --token env:BERTHS_TOKEN $args >/dev/null 2>&1 &
	played=$!
	sleep 1
}
play
sed 's|http://BERTHS/|http://127.0.0.1:8449/|' "$examples/live/apps/berths.yaml" >apps/berths.yaml
run fetch 'pravet fetch --check' 'pravet fetch' 'pravet draft --app berths'
id=$(basename plans/*.json .json)
pravet draft >/dev/null
run rehearse "pravet rehearse $(ls -t plans | head -1 | cut -d. -f1) --seed 7"
sed -i 's/  settle: 2s.*/  settle: 500ms\n  tries: 2\n  failures: 0\n  parallel: 2/' apps/berths.yaml
pravet draft --app berths >/dev/null
id=$(pravet log --kind plan --format csv | tail -1 | grep -o '[a-z2-9]\{8\}' | tail -1)
pravet accept "$id" --because 'read with Idris Keane' >/dev/null
play delay=400ms no-bulk
midway running 9 "pravet apply $id --yes"
rm "$out/running.png" # what it leaves behind is what the next picture is of
# That run was killed with its terminal; the next one goes on, on a bad day, and the last on a good one.
play seed=3 fail=14% after=8% broken=8% lie=4% no-bulk
cat >"$work/bin/well" <<'SH'
#!/bin/sh
kill "$(cat "$0.pid")"
sleep 1
pravet standin serve berths --at 127.0.0.1:8449 --token env:BERTHS_TOKEN >/dev/null 2>&1 &
sleep 1
SH
chmod +x "$work/bin/well"
echo "$played" >"$work/bin/well.pid"
shot resume "printf '\\033[2m\$\\033[0m pravet apply $id\n'; pravet apply $id 2>&1 </dev/null | fold -s -w 132 | head -30; well; \
	printf '\n\\033[2m\$\\033[0m pravet apply $id\n'; pravet apply $id 2>&1 </dev/null | fold -s -w 132"
pkill -f 'standin serve berths --at 127.0.0.1:8449' || true
