"""Stands between Pravet and a program that it talks to. Usage: between.py LOG PROGRAM ...

Notes each change in LOG. With KILL_ASK=N it kills Pravet at the N-th line that comes: before
the program sees it, or with KILL_AFTER=1 after the program has answered, and before Pravet
sees that. With ASKED_LINES=FILE it writes there how many lines came.
"""

import json
import os
import signal
import subprocess
import sys

log, rest = sys.argv[1], sys.argv[2:]
kill_at, after = int(os.environ.get("KILL_ASK", "0")), os.environ.get("KILL_AFTER") == "1"
counted = os.environ.get("ASKED_LINES")
below = subprocess.Popen(rest, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, bufsize=1)
lines = 0


def kill():
    os.kill(os.getppid(), signal.SIGKILL)
    below.kill()
    sys.exit(0)


for line in sys.stdin:
    lines += 1
    if counted:
        with open(counted, "w") as f:
            f.write(str(lines))
    ask = json.loads(line)
    if lines == kill_at and not after:
        kill()
    if ask["ask"] == "change":
        del ask["id"]
        with open(log, "a") as f:
            f.write(json.dumps(ask, sort_keys=True) + "\n")
    below.stdin.write(line)
    below.stdin.flush()
    while True:
        out = below.stdout.readline()
        last = json.loads(out).get("end")
        if lines == kill_at and last:
            kill()
        if lines != kill_at:
            sys.stdout.write(out)
            sys.stdout.flush()
        if last:
            break
below.stdin.close()
