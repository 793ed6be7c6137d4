"""The authority of a bench machine: a simulated workstation, stored in one JSON file.

It is the other side. It knows nothing of Verrou's rules, words or ranges, has its own numbers with their own trap
values, rejects what it does not accept, and does more than it was asked to, as real ones do. Policy numbers, all whole:
``try_limit`` (0: never), ``lock_minutes`` (0: until unlocked), ``window_minutes``, ``length``, ``classes``,
``history``, ``age_max_days`` (0: never), ``age_min_days``, ``warn_days``; switches: ``lock_keeper``, ``name_inside``;
``blank_by``: the routes on which a blank password is accepted; ``outside``: 2 allows linking accounts to an online
identity, 1 admits those that are linked, 0 admits none. A sign-in returns a token; what the session may do is what the
account could do at that moment. Files are stored as a list of places with their owners, without content."""

import json
import os
import string
from datetime import datetime, timedelta
from typing import Any

from verrou.machines.bench.data import (
    AccountData,
    Moment,
    PasswordData,
    RecoveryData,
)
from verrou.machines.bench.session import (
    ADMINISTRATORS,
    GIVES_LIMITS,
    KEEPER,
    LISTS,
    SHIPPED_SEAT,
    USERS,
    WAYS,
    fault_in,
)
from verrou.machines.bench.sign_ins import SignIns
from verrou.machines.bench.state import (
    FIRST_GIVEN,
    FORBIDDEN,
    LANGUAGES,
    LIMITS,
    LONGEST_NAME,
    MOST_EARLIER,
    SHIPPED_POLICY,
    Damaged,
    NewPasswordFirst,
    No,
    hashed,
    new_account,
)

__all__ = ["LANGUAGES", "Authority", "Damaged", "NewPasswordFirst", "No"]


class Authority(SignIns):
    """One bench machine, changed. Changes stay in memory until :meth:`save`."""

    def set_policy(self, key: str, value: Any) -> None:
        """Set one number or switch. The lockout numbers change each other, without a message."""
        policy = self._data["policy"]
        if key not in SHIPPED_POLICY:
            raise No(f"this machine has no {key}")
        if self.lacks(key):
            raise No(f"the basic edition has no {key}")
        if key in SHIPPED_SEAT:
            if fault := fault_in(key, value, self._identities()):
                raise No(fault)
            if key in GIVES_LIMITS and not self.tells_programs_apart and len(set(value.values())) > 1:
                raise No(f"the basic edition has one number for all of {key}")
        elif key in LIMITS:
            low, high = LIMITS[key]
            if isinstance(value, bool) or not isinstance(value, int) or not low <= value <= high:
                raise No(f"{key} must be {low} to {high}, not {value}")
        elif key == "blank_by":
            if not isinstance(value, list) or not all(route in self.logon_lists() for route in value):
                raise No(f"{key} is a list of {', '.join(self.logon_lists())}")
        elif not isinstance(value, bool):
            raise No(f"{key} is on or off, not {value}")
        if key in ("lock_minutes", "window_minutes") and not policy["try_limit"]:
            raise No(f"{key} means nothing while accounts never lock")
        if key == "age_min_days" and policy["age_max_days"] and value >= policy["age_max_days"]:
            raise No(f"age_min_days must stay below age_max_days, which is {policy['age_max_days']}")
        if key == "age_max_days" and value and value <= policy["age_min_days"]:
            raise No(f"age_max_days must stay above age_min_days, which is {policy['age_min_days']}")
        if self.waits(key):
            waiting = self._data["waiting"]
            waiting.setdefault(key, policy[key])
            if waiting[key] == value:
                del waiting[key]
        policy[key] = value
        if key == "try_limit" and value:
            for partner in ("lock_minutes", "window_minutes"):
                if policy[partner] is None:
                    policy[partner] = 25
        elif key == "try_limit":
            policy["lock_minutes"] = policy["window_minutes"] = None
        elif key == "lock_minutes" and value and policy["window_minutes"] > value:
            policy["window_minutes"] = value
        elif key == "window_minutes" and policy["lock_minutes"] and policy["lock_minutes"] < value:
            policy["lock_minutes"] = value

    def add(self, name: str, full_name: str, password: str, must_change: bool) -> int:
        """Create an account, which is put into the users by itself. Return its ID."""
        self._check_name(name)
        self._check_password(name, password)
        identity: int = self._data["next"]
        self._data["next"] = identity + 1
        account = new_account(identity, name, self.clock)
        account |= {"full_name": full_name, "must_change": must_change, "password": self._kept(password)}
        account["home"] = f"/people/{name}"
        self._data["accounts"].append(account)
        self._group(USERS)["members"].append(identity)
        return identity

    def remove(self, name: str, files: str, to: str = "") -> str:
        """Remove an account permanently; its ID is not used again. Return what happened to its files.

        ``files``: ``keep`` leaves its home to the administrators, ``archive`` archives it, ``delete`` deletes it,
        ``hand-over`` transfers all its files anywhere ``to`` another account."""
        account = self._account(name)
        if account["id"] < FIRST_GIVEN:
            raise No(f"{name} is built in and cannot be removed")
        if any(session["account"] == account["id"] for session in self._data["sessions"]):
            raise No(f"{name} is signed in")
        home = account["home"]
        inside = [f for f in self._data["disk"] if f["place"].startswith(f"{home}/")] if home else []
        message = ""
        if files == "hand-over":
            theirs = [file for file in self._data["disk"] if file["owner"] == account["id"]]
            for file in theirs:
                file["owner"] = self._account(to)["id"]
            message = f"files that belong to {to} now: {len(theirs)}" if theirs else ""
        elif inside and files == "keep":
            for file in inside:
                file["owner"] = KEEPER
            message = f"files left in {home}: {len(inside)}"
        elif inside:
            if files == "archive":
                import hashlib

                mark = hashlib.sha256(json.dumps(inside, sort_keys=True).encode()).hexdigest()
                place = f"/archives/{name}-{self.clock:%Y%m%d-%H%M%S}"
                self._data["archives"].append({"place": place, "sha256": mark, "files": inside})
                message = f"files archived in {place}: {len(inside)}, sha256 {mark}"
            else:
                message = f"files deleted: {len(inside)}"
            self._data["disk"] = [file for file in self._data["disk"] if file not in inside]
        self._data["accounts"].remove(account)
        for group in self._data["groups"]:
            group["members"] = [m for m in group["members"] if m != account["id"]]
        self._forget(account["id"])
        return message

    def _forget(self, identity: int) -> None:
        """Remove an ID from every list. An emptied list stays a list: it allows no one, not everyone."""
        for kept in (self._data["policy"], self._data["waiting"]):
            for key, value in kept.items():
                if key in LISTS and value and identity in value:
                    kept[key] = [each for each in value if each != identity]
                elif key == "opens_as" and value == identity:
                    kept[key] = 0
                elif key == "commands":
                    kept[key] = [each for each in value if each[0] != identity]

    def describe(self, name: str, key: str, text: str) -> None:
        """Set details of an account: ``full_name``, ``note``, ``hint``."""
        account = self._account(name)
        if not text.isprintable():
            raise No(f"unknown detail {key}")
        match key:
            case "full_name" | "note" | "hint":
                account[key] = text
            case _:
                raise No(f"unknown detail {key}")

    def set_recovery(self, name: str, answers: dict[str, str]) -> None:
        """Set the recovery questions of an account; none to remove them."""
        kept: list[RecoveryData] = [{"question": each, "answer": self._kept(given)} for each, given in answers.items()]
        self._account(name)["recovery"] = kept

    def recover(self, name: str, answers: list[str], new: str) -> None:
        """Set a new password by answering every recovery question of an account. Raises No: a wrong answer, which
        counts as a failed attempt, or a password that is not accepted."""
        account = self._account(name)
        self._check_usable(account)
        asked = [each["answer"] for each in account["recovery"]]
        if not asked:
            raise No("this account has no recovery questions")
        if len(answers) != len(asked) or not all(map(self._matches, asked, answers)):
            self._count_try(account)
            raise No("the answers are wrong")
        self._check_password(name, new)
        self._store(account, new)
        account["must_change"] = False

    def tie(self, name: str, outside: str) -> None:
        """Link an account to an online identity."""
        if outside and self._data["policy"]["outside"] < 2:
            raise No("this machine ties no further accounts", "outside")
        self._account(name)["outside"] = outside

    def mark(self, name: str, key: str, on: bool) -> None:
        """Set ``must_change``, ``cannot_change`` or ``never_ends``. The first excludes the two others."""
        account = self._account(name)
        set_now = {"must_change": account["must_change"], "cannot_change": account["cannot_change"]}
        set_now["never_ends"] = account["never_ends"]
        others = ("cannot_change", "never_ends") if key == "must_change" else ("must_change",)
        standing = [other for other in others if set_now[other]]
        if on and key in set_now and standing:
            raise No(f"{name}: {standing[0]} and {key} cannot be combined")
        match key:
            case "must_change" | "cannot_change" | "never_ends":
                account[key] = on
            case _:
                raise No(f"unknown mark {key}")

    def empty_home(self, name: str, each_time: bool) -> None:
        """Set whether the home of an account is emptied whenever it signs out."""
        self._account(name)["emptied"] = each_time

    def put(self, name: str, place: str, size: int) -> None:
        """Add a file that belongs to an account."""
        self._data["disk"].append({"place": place, "size": size, "owner": self._account(name)["id"]})

    def add_group(self, name: str, note: str) -> None:
        """Create a group."""
        self._check_name(name)
        identity: int = self._data["next"]
        self._data["next"] = identity + 1
        self._data["groups"].append({"id": identity, "name": name, "note": note, "members": []})

    def note_group(self, name: str, note: str) -> None:
        """Set the note of a group."""
        self._group(name)["note"] = note

    def remove_group(self, name: str) -> None:
        """Remove a group; its members stay."""
        group = self._group(name)
        if group["id"] < FIRST_GIVEN:
            raise No(f"{name} is built in and cannot be removed")
        self._data["groups"].remove(group)
        self._forget(group["id"])

    def rename(self, name: str, new_name: str) -> None:
        """Rename an account, built-in ones included."""
        account = self._account(name)
        self._check_name(new_name, but=account["id"])
        account["name"] = new_name

    def set_open(self, name: str, is_open: bool) -> None:
        """Enable or disable an account."""
        self._account(name)["open"] = is_open

    def set_end(self, name: str, moment: datetime | None) -> None:
        """Set the moment from which on an account is disabled; None for no end."""
        account = self._account(name)
        if account["id"] == KEEPER and moment is not None:
            raise No(f"{name} has no end")
        account["ends"] = Moment(moment.isoformat()) if moment else None

    def join(self, name: str, group: str) -> None:
        """Add an account to a group."""
        members = self._group(group)["members"]
        identity = self._account(name)["id"]
        if identity in members:
            raise No(f"{name} is already in {group}")
        members.append(identity)

    def leave(self, name: str, group: str) -> None:
        """Remove an account from a group."""
        identity = self._account(name)["id"]
        members = self._group(group)["members"]
        if identity not in members:
            raise No(f"{name} is not in {group}")
        if identity == KEEPER and self._group(group)["id"] == ADMINISTRATORS:
            raise No(f"{name} stays in {group}")
        members.remove(identity)

    def reset_password(self, name: str, password: str, must_change: bool = False) -> None:
        """Check an administrator's reset: length, classes and name apply, history and age do not."""
        account = self._account(name)
        self._check_password(name, password)
        standing = [mark for mark in ("cannot_change", "never_ends") if account[mark]]
        if must_change and standing:
            raise No(f"{name}: {standing[0]} and must_change cannot be combined")
        self._store(account, password)
        account["must_change"] = must_change

    def change_password(self, name: str, old: str, new: str) -> None:
        """Check a change by the account's owner: history and the minimum age apply too."""
        account = self._account(name)
        if account["cannot_change"]:
            raise No("only an administrator can change this password")
        present = account["password"]
        if present is None or not self._matches(present, old):
            raise No("the present password is another one")
        policy = self._data["policy"]
        age = self.clock - datetime.fromisoformat(present["at"])
        if age < timedelta(days=policy["age_min_days"]) and not (account["must_change"] or self._too_old(account)):
            shortest = f"age_min_days = {policy['age_min_days']}"
            raise No(f"the password is too young to be changed ({shortest})", "age_min_days")
        self._check_password(name, new)
        earlier = [present, *account["history"]][: policy["history"]]
        if any(self._matches(kept, new) for kept in earlier):
            raise No("the password was used before", "history")
        self._store(account, new)
        account["must_change"] = False

    def let_in(self, name: str) -> None:
        """Remove the account from the reach of every logon list, whatever the edition: for tests on a copy."""
        identity = self._account(name)["id"]
        for kept in (self._data["policy"], self._data["waiting"]):
            for route in WAYS:
                if kept.get(f"in_{route}") is not None:
                    kept[f"in_{route}"] = [*kept[f"in_{route}"], identity]
                if f"out_{route}" in kept:
                    kept[f"out_{route}"] = []

    def unlock(self, name: str) -> None:
        """Unlock an account and clear its failed attempts."""
        account = self._account(name)
        account["tries"], account["locked_at"] = [], None

    def set_idle(self, name: str, minutes: int | None) -> None:
        """Set an idle time of an account's own; None for the machine's."""
        if minutes is not None and (fault := fault_in("idle_minutes", minutes, set())):
            raise No(fault)
        self._account(name)["own_idle"] = minutes

    def _check_password(self, name: str, password: str) -> None:
        policy = self._data["policy"]
        if len(password) < policy["length"]:
            raise No(f"the password is shorter than {policy['length']} characters", "length")
        tests = (string.ascii_lowercase, string.ascii_uppercase, string.digits)
        kinds = {next((i for i, pool in enumerate(tests) if c in pool), 3) for c in password}
        if len(kinds) < policy["classes"]:
            raise No(f"the password has fewer than {policy['classes']} kinds of character", "classes")
        if password and not policy["name_inside"] and name.casefold() in password.casefold():
            raise No("the password contains the account's name", "name_inside")

    def _check_name(self, name: str, but: int | None = None) -> None:
        if not name.strip() or len(name) > LONGEST_NAME or not name.isprintable() or set(name) & set(FORBIDDEN):
            raise No(f"{name!r} is not an account name: 1 to {LONGEST_NAME} printable characters, none of {FORBIDDEN}")
        things = [*self._data["accounts"], *self._data["groups"]]
        taken = {thing["name"].casefold() for thing in things if thing["id"] != but} | {self.name.casefold()}
        if name.casefold() in taken:
            raise No(f"{name} is in use by an account, a group or the machine")

    def _store(self, account: AccountData, password: str) -> None:
        if account["password"] is not None:
            account["history"] = [account["password"], *account["history"]][:MOST_EARLIER]
        account["password"] = self._kept(password)

    def _kept(self, password: str) -> PasswordData:
        salt = os.urandom(16)
        return {
            "scheme": "pbkdf2",
            "salt": salt.hex(),
            "hash": hashed(password, salt),
            "blank": password == "",
            "at": self._now,
        }
