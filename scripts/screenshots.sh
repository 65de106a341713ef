#!/usr/bin/env bash
# Takes the pictures that the README shows, from the samples on a private server. Usage: screenshots.sh FOLDER
set -euo pipefail
folder=$(realpath "$1"); mkdir -p "$folder"
scripts=$(dirname "$(realpath "$0")")
work=$(mktemp -d); chmod 755 "$work"; trap 'kill "${screen:-}" 2>/dev/null || true; catenum local stop --quiet >/dev/null || true; catenum local stop --target local:mysql --quiet >/dev/null || true; rm -rf "$work"' EXIT
export LANG=C.UTF-8 COLORTERM=truecolor DISPLAY=:97
cd "$work"
Xvfb $DISPLAY -screen 0 1280x3300x24 >/dev/null 2>&1 & screen=$!
for _ in $(seq 50); do [ -e /tmp/.X11-unix/X97 ] && break; sleep 0.1; done
catenum local start --quiet >/dev/null
catenum local start --target local:mysql --quiet >/dev/null

shot() { # shot NAME FROM COMMAND: what the command shows in a terminal, 800 dots from line FROM on
  rm -f done
  xterm -u8 -fa 'DejaVu Sans Mono' -fs 10 -bg '#fbfbf8' -fg '#1c2a33' -geometry 158x200+0+0 -title catenum \
    -e bash -c "printf '\$ %s\n\n' '$3'; $3; touch done; sleep 60" 2>/dev/null &
  local terminal=$!
  for _ in $(seq 900); do [ -e done ] && break; sleep 0.1; done
  sleep 0.7
  import -window root -crop "1280x800+0+$(($2 * 16))" +repage "$folder/$1.png"
  kill $terminal 2>/dev/null || true
  wait $terminal 2>/dev/null || true
}

page() { # page NAME FILE FROM: what a browser shows of a page, 800 dots from FROM on; FILE may have a #part
  chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking \
    --disable-component-update --disable-sync --user-data-dir="$work/profile" --hide-scrollbars \
    --window-size=1280,6000 --screenshot="$work/page.png" "file://$work/$2" >/dev/null 2>&1
  convert "$work/page.png" -crop "1280x800+0+$3" +repage "$folder/$1.png"
}

shot play 0 "catenum play berth-swap"
shot play-story 28 "catenum play berth-swap"
shot trial 0 "catenum trial crane-standby"
python "$scripts/portlog.py" . --seconds 12
pick=$({ catenum intake port.csv --json || true; } | python -c 'import json, sys; print(json.load(sys.stdin)["groups"][0]["conflicts"][0])')
shot intake 0 "catenum intake port.csv; catenum restage port.csv --pick $pick"
shot churn 0 "catenum churn yard-lookup --target local:mariadb --for 8s --save cycles"
shot propose 0 "catenum propose berth-count"
shot explore 0 "catenum explore manifest-total"
shot sweep 0 "catenum sweep line-by-line"
catenum levels --target local:postgresql --target local:mariadb --target local:mysql --chart "$folder/levels.png" --quiet >/dev/null
catenum pace hot-row --clients 1,4,16,64,256 --for 12s --chart "$folder/pace.png" --quiet >/dev/null || true
catenum explore left-open --save space --quiet >/dev/null || true
catenum draw space --only map --into "$folder" --quiet
cat > lunch.yaml <<'END'
scenario: lunch
data: |
  create table manifest (id int primary key, vessel varchar(20) not null, boxes int not null);
  create table slot (id int primary key, box varchar(12));
  insert into manifest values (12, 'Halcyon', 240), (13, 'Oriel', 96);
  insert into slot values (41, 'MGHU 204'), (42, null);
transactions:
  clerk:
    ends: open
    statements:
      - select box from slot where id = 41
      - update manifest set boxes = boxes - 1 where id = 12
      - select vessel from manifest where id = 13
      - select count(*) from slot
  loader: {statements: ["update slot set box = 'MGHU 377' where id = 42", update manifest set boxes = boxes + 1 where id = 12]}
  planner: {statements: [update slot set box = null where id = 42]}
  desk: {statements: [select boxes from manifest where id = 12 for update]}
  tally: {statements: [select count(*) from manifest]}
order: clerk clerk clerk clerk loader loader planner desk tally
END
(for _ in $(seq 8); do echo; sleep 0.7; done; sleep 25) | catenum play lunch.yaml --pause --target local:mysql >/dev/null 2>&1 & play=$!
sleep 9
shot now 0 "catenum now --target local:mysql"
wait $play || true
(for _ in $(seq 6); do echo; sleep 0.7; done; sleep 25) | catenum play left-open --pause >/dev/null 2>&1 & play=$!
sleep 7
shot watch 0 "catenum watch --own-runs --every 500ms --for 4s --no-store"
wait $play || true
server=$(catenum local status --json | python -c 'import json, sys; print(json.load(sys.stdin)["servers"][0]["sockets"])')
catenum watch --quiet --store night.sqlite >/dev/null & watch=$!
python "$scripts/night.py" "host=$server user=catenum dbname=marrowgate" --seconds 240 >/dev/null
kill $watch; wait $watch || true
catenum history --store night.sqlite --chart "$folder/history.png" >/dev/null
clerk=$(catenum history list --store night.sqlite --json | python -c 'import json, sys; print(next(i["id"] for i in json.load(sys.stdin)["incidents"] if i["application"] == "clerk"))')
catenum history note "$clerk" 'the clerk was at lunch; told Marit' --store night.sqlite --quiet
here="host=$server user=catenum dbname=marrowgate"
catenum watch --quiet --store pile.sqlite >/dev/null & watch=$!
sleep 1; python "$scripts/crowd.py" pile "$here" --seconds 25; sleep 2
kill $watch; wait $watch || true
shot incident 0 "catenum history show 1 --store pile.sqlite"
catenum play berth-swap --quiet --save berth-swap.json >/dev/null || true
catenum draw berth-swap.json --only timeline --into "$folder" --quiet
catenum propose berth-swap --quiet --save proposal.json >/dev/null
catenum report berth-swap.json -o report.html --quiet
page report report.html 0
catenum report proposal.json -o fix.html --quiet
page report-fix fix.html#s1-move-4 520
mkdir checked; catenum sample berth-swap -o checked/berths.yaml --quiet; catenum sample crane-standby -o checked/cranes.yaml --quiet
printf 'expect: no deadlock\n' >> checked/berths.yaml
printf 'expect: {serializable: no anomaly, repeatable read: "write skew, any rules"}\n' >> checked/cranes.yaml
shot check 0 "catenum check checked --junit junit.xml --sarif catenum.sarif"
