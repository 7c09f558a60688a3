#!/bin/sh
# bench.sh PRAVET times whole drafts of 1,000, 100,000 and 1,000,000 people with
# three CSV applications, 200 rules and one account in a hundred differing; and
# beside it, on the same exports and the rows that they should hold, sqlite3 and
# sort + comm. Then drafts of few changes (one account in 23) and of a first day
# (one in four), in one run with sort + comm. Each line is the median of three runs.
set -eu
pravet=$(realpath "$1")
cd "$(dirname "$0")/.."
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
export LC_ALL=C
${GO:-go} build -o "$work/world" ./tools/world

# median COMMAND ...: seconds and MiB, the median of three runs.
median() {
	for _ in 1 2 3; do
		/usr/bin/time -o "$work/t" -f '%e %M' "$@" >/dev/null 2>"$work/err" || { cat "$work/err" >&2; exit 1; }
		tail -1 "$work/t"
	done | sort -n | sed -n 2p | awk '{printf "%8.2f s  %6d MiB\n", $1, $2 / 1024}'
}

cat >"$work/sqlite.sh" <<'S'
{
	for a in alpha bravo carol; do printf '.import --csv rows/%s.csv d_%s\n.import --csv exports/%s.csv e_%s\n' $a $a $a $a; done
	for a in alpha bravo carol; do
		echo "CREATE UNIQUE INDEX i_$a ON e_$a (login);"
		echo "SELECT count(*) FROM d_$a d LEFT JOIN e_$a e ON d.login = e.login WHERE e.login IS NULL OR d.name <> e.name OR d.mail <> e.mail OR d.state <> e.state OR d.groups <> e.groups OR d.roles <> e.roles OR d.licenses <> e.licenses;"
	done
} | sqlite3 :memory:
S
cat >"$work/sort.sh" <<'S'
for a in alpha bravo carol; do
	sort rows/$a.csv >$1/d; sort exports/$a.csv >$1/e
	comm -3 $1/d $1/e
done
S

echo "pravet --version:             $(median "$pravet" --version)"
echo "size of the program:          $(($(stat -c %s "$pravet") / 1024 / 1024)) MiB"
for n in 1000 100000 1000000; do
	rm -rf "$work/w"
	"$work/world" -people "$n" "$work/w"
	cd "$work/w"
	echo "$n people"
	echo "  pravet draft:               $(median "$pravet" draft --on 2026-11-24)"
	echo "  sqlite3, import and join:   $(median sh "$work/sqlite.sh")"
	echo "  sort + comm:                $(median sh "$work/sort.sh" "$work")"
	cd - >/dev/null
done
for n in 100000 1000000; do
	for every in 23 4; do
		rm -rf "$work/v"
		"$work/world" -people "$n" -every "$every" "$work/v"
		cd "$work/v"
		echo "$n people, one account in $every differs"
		echo "  pravet draft:               $(median "$pravet" draft --on 2026-11-24)"
		echo "  sort + comm:                $(median sh "$work/sort.sh" "$work")"
		echo "  the plan:                   $(du -m plans | cut -f1) MiB"
		cd - >/dev/null
	done
done
rm -rf "$work/v"
cd "$work/w"
echo "  pravet why, one person:     $(median "$pravet" why user.0777777 --on 2026-11-24)"
echo "  pravet seats --ahead P12M:  $(median "$pravet" seats --ahead P12M --on 2026-11-24)"
cd - >/dev/null
echo "1000000 people, 2,000 rules"
"$work/world" -people 1000000 -rules 2000 "$work/w"
cd "$work/w"
echo "  pravet draft:               $(median "$pravet" draft --on 2026-11-24)"

# What is there already: a spreadsheet of 100,000 rows, half of them new; an application of 100,000
# accounts taken over, and rules found in what they hold; a report of a million people. Beside it, what
# sqlite3 can do of that: import and join the same files.
rm -rf "$work/h"
"$work/world" -people 100000 "$work/h"
cd "$work/h"
rm -rf apps/bravo.yaml apps/carol.yaml apps/alpha.yaml kits
awk -F, 'NR == 1 || NR > 50001' people/*.csv >sheet.csv
awk 'NR > 1 && NR <= 50001 { sub(/^P/, "N"); gsub(/user\./, "new."); sub(/Person/, "Newcomer"); print }' people/*.csv >>sheet.csv
echo "100000 people, a spreadsheet of $(($(wc -l <sheet.csv) - 1)) rows"
echo "  pravet intake, a preview:   $(median sh -c "'$pravet' intake sheet.csv --into people/more.csv")"
cat >"$work/intake.sql" <<'S'
.import --csv sheet.csv s
CREATE UNIQUE INDEX i ON s (id);
S
for f in people/*.csv; do echo ".import --csv $f p" >>"$work/intake.sql"; done
echo "CREATE UNIQUE INDEX j ON p (id); SELECT count(*) FROM s LEFT JOIN p ON s.id = p.id WHERE p.id IS NULL OR s.displayName <> p.displayName;" >>"$work/intake.sql"
echo "  sqlite3, import and join:   $(median sh -c "sqlite3 :memory: <'$work/intake.sql'")"
echo "100000 accounts taken over"
echo "  pravet adopt, a preview:    $(median "$pravet" adopt --app alpha exports/alpha.csv)"
cat >"$work/adopt.sql" <<'S'
.import --csv exports/alpha.csv a
S
for f in people/*.csv; do echo ".import --csv $f p" >>"$work/adopt.sql"; done
echo "CREATE INDEX j ON p (userName); SELECT count(*) FROM a JOIN p ON a.login = p.userName; SELECT roles, groups, licenses, count(*) FROM a GROUP BY 1, 2, 3;" >>"$work/adopt.sql"
echo "  sqlite3, import and join:   $(median sh -c "sqlite3 :memory: <'$work/adopt.sql'")"
"$pravet" adopt --app alpha exports/alpha.csv --write --brief >/dev/null 2>&1
echo "  pravet propose:             $(median "$pravet" propose)"
cd - >/dev/null
cd "$work/w"
echo "1000000 people, a report"
echo "  pravet draft:               $(median "$pravet" draft --on 2026-11-24)"
echo "  pravet report access:       $(median "$pravet" report access --format csv)"
echo "  pravet report, one page:    $(median "$pravet" report --out "$work/page.html")"
cat >"$work/report.sql" <<'S'
.import --csv exports/alpha.csv a
.import --csv exports/bravo.csv b
.import --csv exports/carol.csv c
S
for f in people/*.csv; do echo ".import --csv $f p" >>"$work/report.sql"; done
cat >>"$work/report.sql" <<'S'
CREATE INDEX ia ON a (login); CREATE INDEX ib ON b (login); CREATE INDEX ic ON c (login);
.mode csv
SELECT p.id, a.roles, b.roles, c.roles FROM p LEFT JOIN a ON a.login = p.userName LEFT JOIN b ON b.login = p.userName LEFT JOIN c ON c.login = p.userName;
S
echo "  sqlite3, import and join:   $(median sh -c "sqlite3 :memory: <'$work/report.sql'")"
cd - >/dev/null
