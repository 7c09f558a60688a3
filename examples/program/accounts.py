"""Keeps the accounts of an application in a JSON file, and lets Pravet read and change them.

Pravet asks on standard input and is answered on standard output, a line of JSON each.
Usage, in the application's file:

    connect: {by: program, run: [python3, accounts.py, accounts.json]}
"""

import hashlib
import json
import os
import sys

STATE = sys.argv[1]


def load():
    with open(STATE, encoding="utf-8") as f:
        return json.load(f)


def save(accounts):
    beside = STATE + ".new"
    with open(beside, "w", encoding="utf-8") as f:
        json.dump(accounts, f, indent=1)
    os.replace(beside, STATE)


def record(name, account):
    return {
        "account": name,
        "state": account.get("state", "open"),
        "attributes": account.get("attributes", {}),
        "groups": account.get("group", []),
        "roles": account.get("role", []),
        "licenses": account.get("license", []),
    }


def change(ask, accounts):
    """Carries one change out. Returns why it is refused, or None."""
    verb, name = ask["verb"], ask["account"]
    if verb == "create":
        if name in accounts:
            return "there is such an account"
        attributes = {k: v for k, v in ask.get("attributes", {}).items() if k != "userName"}
        accounts[name] = {"state": "blocked" if ask.get("blocked") else "open", "attributes": attributes}
        return None
    account = accounts.get(name)
    if account is None:
        return "there is no such account"
    held = account.setdefault(ask["kind"], []) if "kind" in ask else None
    if verb == "suspend":
        account["state"] = "blocked"
    elif verb == "restore":
        account["state"] = "open"
    elif verb == "remove":
        del accounts[name]
    elif verb == "update" and ask["attribute"] == "userName":
        accounts[ask["after"]] = accounts.pop(name)
    elif verb == "update" and ask["attribute"] == "keySince":
        # A new key comes with the question; a real application sets it, and keeps no copy.
        account.setdefault("attributes", {})["keySince"] = ask["after"]
        account["key"] = hashlib.sha256(ask["password"].encode()).hexdigest()
    elif verb == "update":
        account.setdefault("attributes", {})[ask["attribute"]] = ask.get("after", "")
    elif verb in ("join", "grant", "assign"):
        if ask["thing"] not in held:
            held.append(ask["thing"])
    elif verb in ("leave", "revoke", "release"):
        if ask["thing"] in held:
            held.remove(ask["thing"])
    else:
        return "this application cannot " + verb
    return None


def answer(ask, **more):
    print(json.dumps({"id": ask["id"], **more}), flush=True)


for line in sys.stdin:
    ask = json.loads(line)
    if ask["ask"] == "about":
        answer(ask, end=True, says="accounts in " + os.path.basename(STATE))
    elif ask["ask"] == "accounts":
        wanted = ask.get("accounts")
        for name, account in sorted(load().items()):
            if wanted is None or name in wanted:
                answer(ask, record=record(name, account))
        answer(ask, end=True)
    else:
        accounts = load()
        refused = change(ask, accounts)
        if refused:
            answer(ask, end=True, refused=refused)
        else:
            save(accounts)
            answer(ask, end=True)
