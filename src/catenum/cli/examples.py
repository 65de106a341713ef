"""Two examples of each command, for its help; and the words that people try first."""

from __future__ import annotations

#: By command, what to type, and what that does.
EXAMPLES: dict[str, tuple[tuple[str, str], ...]] = {
    "demo": (
        ("catenum demo", "on a private PostgreSQL server, files in catenum-demo"),
        ("catenum demo --target local:mariadb --into tour", "on MariaDB"),
    ),
    "sample": (
        ("catenum sample berth-swap -o berths.yaml", "one sample, to edit"),
        ("catenum sample --all samples", "all of them, into a folder"),
    ),
    "new": (
        ("catenum new --sql quay.sql --sql gate.sql -o case.yaml", "from two files of statements"),
        ("catenum new berth crane --tables postgresql://db/harbour", "from a server's schema"),
    ),
    "lint": (
        ("catenum lint berths.yaml", "read by a private server"),
        ("catenum lint *.yaml --text-only", "without any server"),
    ),
    "play": (
        ("catenum play berths.yaml --order 'early late early late'", "this schedule"),
        ("catenum play berths.yaml -o run.json", "with a recording, for report"),
    ),
    "explore": (
        ("catenum explore berths.yaml --isolation each", "at every level"),
        ("catenum explore berths.yaml -o all --expect 'no deadlock'", "saved; else exit code 1"),
    ),
    "churn": (
        ("catenum churn yard-lookup --target local:mariadb --for 20s", "in loops for 20 s"),
        ("catenum churn berths.yaml --copies early=4 --until deadlock", "until it happens"),
    ),
    "trial": (
        ("catenum trial berths.yaml", "each remedy, on every schedule"),
        ("catenum trial berths.yaml --remedy 'same order' -o trial.json", "one, saved for report"),
    ),
    "sweep": (
        ("catenum sweep line-by-line", "every way in which two lists can meet"),
        ("catenum sweep loads.yaml -o cases --for 5m", "a scenario file of each distinct case"),
    ),
    "propose": (
        ("catenum propose berths.yaml", "changes, tried and ranked"),
        ("catenum propose berths.yaml --write fixed.yaml", "a copy with what cures as remedies"),
    ),
    "levels": (
        ("catenum levels --target local:postgresql --target local:mysql", "two servers compared"),
        ("catenum levels berths.yaml", "which level this scenario needs"),
    ),
    "pace": (
        ("catenum pace one-row --clients 1,16,64", "a kind of work, at each level"),
        ("catenum pace berths.yaml -o before.json", "a scenario's, to be compared later"),
    ),
    "check": (
        ("catenum check scenarios --junit junit.xml", "all scenarios of a folder"),
        ("catenum check berths.yaml --since-last", "only if something changed"),
    ),
    "report": (
        ("catenum report run.json -o run.html", "one page, of one recording"),
        ("catenum report all trial.json -o case.html --mask", "of several results, without values"),
    ),
    "explain": (
        ("catenum explain run.json", "the story of a recording"),
        ("catenum explain postgresql.log --pick 3", "of the third conflict in a log"),
    ),
    "draw": (
        ("catenum draw run.json --format svg", "timeline and wait graph"),
        ("catenum draw all", "the outcome map of an exploration"),
    ),
    "now": (
        ("catenum now --target postgresql://db/harbour", "who waits for whom"),
        ("catenum now --target yard --locks", "with every lock of those who take part"),
    ),
    "watch": (
        ("catenum watch --target yard --target gate", "two servers, until Ctrl-C"),
        ("catenum watch --target yard --metrics 9180", "with metrics for a collector"),
    ),
    "history": (
        ("catenum history --since yesterday", "what was seen since then"),
        ("catenum history show 17", "one incident"),
    ),
    "release": (
        ("catenum release --target yard 4711", "what the session blocks; then it asks"),
        ("catenum release --target yard 4711 --dry-run", "what would be done"),
    ),
    "preflight": (
        ("catenum preflight --target yard", "what this login sees"),
        ("catenum preflight --target yard --json", "the same for programs"),
    ),
    "intake": (
        ("catenum intake /var/log/postgresql", "the conflicts in a folder of logs"),
        ("catenum intake postgresql.log --since '2h ago' --pick 1", "one, told in full"),
    ),
    "restage": (
        ("catenum restage postgresql.log --pick 1 -o case.yaml", "a scenario of a conflict"),
        ("catenum restage mariadb.log --schema dump.sql --mask -o case.yaml", "without its values"),
    ),
    "schema": (
        ("catenum schema scenario > scenario.schema.json", "for an editor"),
        ("catenum schema recording", "of what --save writes"),
    ),
    "local": (
        ("catenum local start --target local:mysql", "keep a private server between commands"),
        ("catenum local stop", "stop it"),
    ),
    "completion": (
        ('eval "$(catenum completion bash)"', "in this shell"),
        ("catenum completion fish > ~/.config/fish/completions/catenum.fish", "for good"),
    ),
    "help": (
        ("catenum help play", "the options of a command"),
        ("catenum help --man > catenum.1", "the man page"),
    ),
}
#: What people type who do not know the commands yet.
GUESSED = {
    **dict.fromkeys(("run", "exec", "replay", "reproduce"), "play"),
    **dict.fromkeys(("test", "tests", "verify", "ci"), "check"),
    **dict.fromkeys(("kill", "terminate", "cancel", "unblock"), "release"),
    **dict.fromkeys(("log", "logs", "import", "parse", "read"), "intake"),
    **dict.fromkeys(("monitor", "tail", "follow", "agent"), "watch"),
    **dict.fromkeys(("ping", "diagnose", "privileges"), "preflight"),
    **dict.fromkeys(("status", "ps", "top", "locks", "blocking", "waits", "show"), "now"),
    **dict.fromkeys(("init", "create", "generate"), "new"),
    **dict.fromkeys(("fix", "suggest", "advise", "solve"), "propose"),
    **dict.fromkeys(("bench", "benchmark", "load"), "pace"),
    **dict.fromkeys(("stress", "loop", "hammer"), "churn"),
    **dict.fromkeys(("compare", "try"), "trial"),
    **dict.fromkeys(("html", "export", "page"), "report"),
    **dict.fromkeys(("graph", "plot", "svg", "png", "diagram"), "draw"),
    **dict.fromkeys(("validate", "parse-file", "format"), "lint"),
    **dict.fromkeys(("list", "ls", "examples", "samples"), "sample"),
    **dict.fromkeys(("start", "stop", "server", "up", "down"), "local"),
    **dict.fromkeys(("isolation", "anomalies", "matrix"), "levels"),
    **dict.fromkeys(("incidents", "past", "events"), "history"),
    **dict.fromkeys(("story", "why", "describe"), "explain"),
    **dict.fromkeys(("all", "enumerate", "search", "interleave"), "explore"),
}
GUESSED_OPTIONS = {
    **dict.fromkeys(("--out", "--output", "--file", "--write-to"), "--save"),
    **dict.fromkeys(("--db", "--database", "--url", "--dsn", "--server", "--host"), "--target"),
    **dict.fromkeys(("--duration", "--time", "--seconds", "--length"), "--for"),
    **dict.fromkeys(("--level", "--levels", "--isolation-level"), "--isolation"),
    **dict.fromkeys(("--threads", "--jobs", "--parallel", "--processes"), "--workers"),
    **dict.fromkeys(("--schedule", "--moves", "--sequence"), "--order"),
    **dict.fromkeys(("--fix", "--with"), "--remedy"),
    **dict.fromkeys(("--colour", "--colors"), "--color"),
    **dict.fromkeys(("--short", "--summary"), "--brief"),
    **dict.fromkeys(("--silent",), "--quiet"),
    **dict.fromkeys(("--assert", "--must"), "--expect"),
}
