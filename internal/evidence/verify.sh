#!/bin/sh
# Proves this archive with sha256sum, sqlite3 and ssh-keygen.
set -eu
cd "$(dirname "$0")"
sha256sum --quiet -c SHA256SUMS
echo "Files: as they were packed."

tmp=$(mktemp -d)
trap 'rm -rf "$tmp"' EXIT
sqlite3 record.db "SELECT hash FROM entries ORDER BY seq" >"$tmp/said"
sqlite3 record.db "SELECT line FROM entries ORDER BY seq" | while IFS= read -r line; do
	printf '%s' "$line" | sha256sum | cut -d' ' -f1
done >"$tmp/is"
cmp "$tmp/said" "$tmp/is" || { echo "The hashes of entries are not those of what they say."; exit 1; }
wrong=$(sqlite3 record.db "SELECT count(*) FROM entries e LEFT JOIN entries p ON p.seq = e.seq - 1
	WHERE (p.seq IS NULL AND e.seq <> (SELECT min(seq) FROM entries)) OR e.prev <> coalesce(p.hash, e.prev)
	OR json_extract(e.line, '\$[0]') <> e.prev OR json_extract(e.line, '\$[1]') <> CAST(e.seq AS TEXT)
	OR json_extract(e.line, '\$[2]') <> e.at OR json_extract(e.line, '\$[3]') <> e.by OR json_extract(e.line, '\$[4]') <> e.kind
	OR json_extract(e.line, '\$[5]') <> e.subject OR json_extract(e.line, '\$[6]') <> e.body")
[ "$wrong" = 0 ] || { echo "$wrong entries do not follow from the one before."; exit 1; }
echo "Entries: $(wc -l <"$tmp/is"), one chain."

n=0
while read -r number who day keys; do
	ssh-keygen -Y verify -f "$keys" -I "$who" -n decision@pravet -O verify-time="$day" -s "decisions/$number.sig" \
		<"decisions/$number.message" >/dev/null || { echo "Decision $number is not proved."; exit 1; }
	is=$(sqlite3 record.db "SELECT json_extract(body, '\$.signed.message') FROM entries WHERE seq = CAST('$number' AS INTEGER)")
	[ "$is" = "$(cat "decisions/$number.message")" ] || { echo "Decision $number is not the one on record."; exit 1; }
	n=$((n + 1))
done <decisions/list.txt
echo "Signatures: $n proved."
