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
import secrets
import string
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from verrou.machines.bench import shape
from verrou.machines.bench.session import (
    ADMINISTRATORS,
    AFTER_RESTART,
    AFTER_SIGN_IN,
    FULL_ONLY,
    GUESTS,
    KEEPER,
    LISTS,
    PASSERBY,
    PATTERN,
    REMOTE_USERS,
    SEAT_LIMITS,
    SHIPPED_SEAT,
    USERS,
    WAYS,
    belongs,
    elevation,
    fault_in,
)

FIRST_GIVEN = 100
"""The first ID of an account or group that was created; lower ones are built in."""
ROUNDS = 5_000
LONGEST_NAME = 26
FORBIDDEN = "/:,;%#{}~"
MOST_EARLIER = 36
"""How many earlier passwords are kept."""

LANGUAGES: dict[str, dict[int, str]] = {
    "en": {
        KEEPER: "keeper",
        PASSERBY: "passerby",
        PATTERN: "pattern",
        ADMINISTRATORS: "administrators",
        USERS: "users",
        GUESTS: "guests",
        REMOTE_USERS: "remote users",
    },
    "fr": {
        KEEPER: "gardien",
        PASSERBY: "passant",
        PATTERN: "patron",
        ADMINISTRATORS: "gestionnaires",
        USERS: "utilisateurs",
        GUESTS: "invités",
        REMOTE_USERS: "utilisateurs distants",
    },
}

SHIPPED_POLICY: dict[str, Any] = {
    "try_limit": 0,
    "lock_minutes": None,
    "window_minutes": None,
    "lock_keeper": False,
    "length": 0,
    "classes": 0,
    "history": 0,
    "age_max_days": 210,
    "age_min_days": 0,
    "warn_days": 12,
    "name_inside": True,
    "blank_by": ["console"],
    "outside": 2,
    **SHIPPED_SEAT,
}
LIMITS = {
    "outside": (0, 2),
    "try_limit": (0, 200),
    "lock_minutes": (0, 43_200),
    "window_minutes": (1, 2_880),
    "length": (0, 72),
    "classes": (0, 4),
    "history": (0, MOST_EARLIER),
    "age_max_days": (0, 1_500),
    "age_min_days": (0, 400),
    "warn_days": (0, 60),
}


MOST_EVER = 1_000_000
"""No number of its policy was ever larger."""


class No(Exception):
    """The authority rejects the request; the message says why."""


class NewPasswordFirst(No):
    """Name and password are right; a new password is required before anything else."""


class Damaged(Exception):
    """The file is not one of this authority."""


def _reason(error: Exception) -> str:
    """Return why a file cannot be a bench machine's, for people."""
    match error:
        case json.JSONDecodeError():
            return f"line {error.lineno}, column {error.colno} is not valid JSON"
        case KeyError():
            return f"{error} is missing"
        case RecursionError():
            return "it is nested too deeply"
        case _:
            return "a value has the wrong type, or is out of range"


class Authority:
    """One bench machine. Changes stay in memory until :meth:`save`."""

    def __init__(self, text: str) -> None:
        try:
            self._data = json.loads(text)
            if self._data["bench"] != 1:
                raise Damaged(f"made for another version: {self._data['bench']!r}")
            self.clock = datetime.fromisoformat(self._data["clock"])
            self._data["accounts"] = [{**UNMARKED, **account} for account in self._data["accounts"]]
            for group in self._data["groups"]:
                group.setdefault("note", "")
            for kept in ("sessions", "disk", "archives"):
                self._data.setdefault(kept, [])
            self._data["policy"] = {**json.loads(json.dumps(SHIPPED_SEAT)), **self._data["policy"]}
            self._data.setdefault("waiting", {})
            self._data["policy"] = {**SHIPPED_POLICY, **self._data["policy"]}
            self.name, self.edition = str(self._data["name"]), str(self._data["edition"])
            self.serial = str(self._data.get("serial", ""))
            if strange := shape.fault(self._data, shape.FILE):
                raise Damaged(strange)
            self._check()
        except (ValueError, KeyError, TypeError, AttributeError, IndexError, OverflowError, RecursionError) as error:
            raise Damaged(_reason(error)) from None

    def _check(self) -> None:
        """Check everything once: the file may have been written by anyone."""
        names = [thing["name"].casefold() for thing in (*self._data["accounts"], *self._data["groups"])]
        if self._data["language"] not in LANGUAGES:
            raise Damaged("its language is not supported")
        if len(set(names)) < len(names) or not all(name.strip() for name in names):
            raise Damaged("two of its accounts or groups bear one name, or one bears none")
        for key, value in self._data["policy"].items():
            if key in LIMITS and (isinstance(value, bool) or not isinstance(value, int | None)):
                raise Damaged(f"{key} is not a number: {value!r}")
            if key in LIMITS and value is not None and abs(value) > MOST_EVER:
                raise Damaged(f"{key} is a number that cannot be")
        if not 0 <= self._data["policy"]["outside"] <= 2 or not isinstance(self._data["policy"]["lock_keeper"], bool):
            raise Damaged("outside and lock_keeper are none of what they can be")
        if not all(route in self.logon_lists() for route in self._data["policy"]["blank_by"]):
            raise Damaged("blank_by names an unknown route")
        identities = self._identities()
        for kept in (self._data["policy"], self._data["waiting"]):
            for key in SHIPPED_SEAT.keys() & kept.keys():
                if fault := fault_in(key, kept[key], identities):
                    raise Damaged(fault)
        for account in self._data["accounts"]:
            if fault := fault_in("idle_minutes", account["own_idle"] or 0, identities):
                raise Damaged(f"own_idle: {fault}")
        if gone := {ADMINISTRATORS, USERS, GUESTS, REMOTE_USERS} - {group["id"] for group in self.groups()}:
            raise Damaged(f"the built-in group {min(gone)} is missing")

    @classmethod
    def fresh(cls, name: str, clock: datetime, edition: str = "full", language: str = "en") -> "Authority":
        """Return a new machine."""
        words = LANGUAGES[language]
        accounts = [_account(i, words[i], clock) for i in (KEEPER, PASSERBY, PATTERN)]
        for account in accounts[1:]:
            account["open"] = False
        members = {ADMINISTRATORS: [KEEPER], USERS: [], GUESTS: [PASSERBY], REMOTE_USERS: []}
        data = {
            "bench": 1,
            "serial": secrets.token_hex(8),
            "name": name,
            "edition": edition,
            "language": language,
            "clock": clock.isoformat(),
            "next": FIRST_GIVEN,
            "accounts": accounts,
            "groups": [{"id": i, "name": words[i], "note": "", "members": m} for i, m in members.items()],
            "policy": json.loads(json.dumps(SHIPPED_POLICY)),
        }
        return cls(json.dumps(data))

    def text(self) -> str:
        """Return the whole machine as its file's text."""
        self._data["clock"] = self.clock.isoformat()
        return json.dumps(self._data, indent=1, ensure_ascii=False) + "\n"

    def save(self, path: Path) -> None:
        """Save it; the file is the old one or the new one at every moment."""
        staged = path.with_name(path.name + ".staged")
        with open(staged, "w", encoding="utf-8") as stream:
            stream.write(self.text())
            stream.flush()
            os.fsync(stream.fileno())
        os.replace(staged, path)

    # Looking

    def accounts(self) -> list[dict[str, Any]]:
        """Return every account with its groups, and without its password hash."""
        shown = []
        for account in self._data["accounts"]:
            kept = account["password"]
            shown.append(
                {
                    **{k: v for k, v in account.items() if k not in ("password", "history", "tries", "recovery")},
                    "questions": [kept["question"] for kept in account["recovery"]],
                    "sessions": [
                        {"way": s["way"], "since": s["since"]}
                        for s in self._data["sessions"]
                        if s["account"] == account["id"]
                    ],
                    "password": "none" if kept is None else "blank" if kept["blank"] else "set",
                    "scheme": kept["scheme"] if kept else "",
                    "password_set": kept["at"] if kept else None,
                    "groups": [g["name"] for g in self._data["groups"] if account["id"] in g["members"]],
                    "recent_tries": len(self._recent(account)),
                    "locked_until": self._locked_until(account),
                    "shipped_name": LANGUAGES[self._data["language"]].get(account["id"]),
                }
            )
        return shown

    def groups(self) -> list[dict[str, Any]]:
        """Return every group with its members by name."""
        names = {a["id"]: a["name"] for a in self._data["accounts"]}
        return [{**g, "members": [names[m] for m in g["members"] if m in names]} for g in self._data["groups"]]

    def policy(self) -> dict[str, Any]:
        """Return the numbers and switches as stored."""
        return dict(self._data["policy"])

    def effective(self, key: str) -> Any:
        """Return the enforced value of a policy key: the former one while the new one waits."""
        return self._data["waiting"].get(key, self._data["policy"][key])

    @staticmethod
    def waits(key: str) -> bool:
        """Return whether a new value of a key takes effect only after a restart, or at the next sign-in."""
        return key in (*AFTER_RESTART, *AFTER_SIGN_IN)

    def lacks(self, key: str) -> bool:
        """Return whether this edition lacks a key."""
        return self.edition == "basic" and key in FULL_ONLY

    def limits(self, key: str) -> tuple[int, int]:
        """Return the bounds of a policy number."""
        return {**LIMITS, **SEAT_LIMITS}[key]

    def logon_lists(self) -> dict[str, tuple[list[int] | None, list[int] | None]]:
        """Return by route whom the machine allows, and whom it denies all the same; None for everyone."""
        return {route: (self.effective(f"in_{route}"), self.effective(f"out_{route}")) for route in WAYS}

    def opens_as(self, *, as_set: bool = False) -> str:
        """Return the account that is signed in automatically at each start, by the enforced value or ``as_set``.

        Empty where there is none, or the machine does not do so for an account like that."""
        limit = self._data["policy"]["opens_for"] if as_set else self.effective("opens_for")
        kinds = {"guest": 1, "user": 2, "administrator": 2, "keeper": 2}
        for account in self._data["accounts"]:
            if account["id"] == self._data["policy"]["opens_as"] and self._may_begin(account):
                name = str(account["name"])
                return name if limit >= kinds[self.kind_of(name)] else ""
        return ""

    def _may_begin(self, account: dict[str, Any]) -> bool:
        """Return whether a session of an account may begin at the console, whatever credential it has."""
        taken, denied = self.logon_lists()["console"]
        identities = self._identities_of(account)
        barred = account["outside"] and not self._data["policy"]["outside"]
        return bool(
            account["open"]
            and not self._has_ended(account)
            and not barred
            and belongs(taken, identities)
            and not belongs(denied, identities)
        )

    def _has_ended(self, account: dict[str, Any]) -> bool:
        return bool(account["ends"] and self.clock >= datetime.fromisoformat(account["ends"]))

    def kind_of(self, name: str) -> str:
        """Return what an account is to elevation: ``keeper``, ``administrator``, ``guest`` or ``user``."""
        identities = self._identities_of(self._account(name))
        if KEEPER in identities:
            return "keeper"
        if ADMINISTRATORS in identities:
            return "administrator"
        return "guest" if PASSERBY in identities or (GUESTS in identities and USERS not in identities) else "user"

    def elevate(self, name: str, program: str) -> str:
        """Return the outcome of elevating a program for an account; see :func:`elevation`."""
        now = {key: self.effective(key) for key in SHIPPED_SEAT}
        return elevation(now, self.kind_of(name), program)

    def request(self, token: int, program: str) -> str:
        """Ask for elevation of a program in a session; the outcome is that of :meth:`elevate`.

        An answer given in the session not long ago is remembered; otherwise a prompt stays open until it is
        answered."""
        session = self._session(token)
        met = self.elevate(self._name_of(session), program)
        memory = timedelta(minutes=self.effective("memory_minutes"))
        answered = session.get("answered")
        if met in ("runs", "refused"):
            return met
        if answered and self.clock - datetime.fromisoformat(answered) < memory:
            return "runs"
        session["asked"] = {"at": self.clock.isoformat(), "for": met}
        return met

    def respond(self, token: int, given: str, by: str = "") -> None:
        """Answer the open prompt of a session: ``yes`` to confirm, the own password, or that of the administrator
        ``by``.

        A prompt that is not answered in time is denied."""
        session = self._session(token)
        question = session.pop("asked", None)
        if question is None:
            raise No("nothing was asked")
        patience = self.effective("patience_seconds")
        waited = self.clock - datetime.fromisoformat(question["at"])
        if patience and waited > timedelta(seconds=patience):
            raise No("no answer in time")
        who = by if question["for"] == "administrator's password" else self._name_of(session)
        if question["for"] == "administrator's password" and not (by and self.can_administer(by)):
            raise No(f"{by or 'nobody'} has no administrator rights here")
        right = given == "yes" if question["for"] == "approve" else self._matches(self._account(who)["password"], given)
        if not right:
            raise No("not a valid answer")
        session["answered"] = self.clock.isoformat()

    def _session(self, token: int) -> dict[str, Any]:
        for session in self._data["sessions"]:
            if session["token"] == token:
                found: dict[str, Any] = session
                return found
        raise No(f"there is no session {token}")

    def _name_of(self, session: dict[str, Any]) -> str:
        return str(next(a["name"] for a in self._data["accounts"] if a["id"] == session["account"]))

    def may(self, name: str, duty: str) -> bool:
        """Return whether an account may shut the machine down (``off``), set its ``clock`` or ``install``."""
        return belongs(self.effective(f"duty_{duty}"), self._identities_of(self._account(name)))

    def installs(self, name: str) -> bool:
        """Return whether an installer starts at all for an account."""
        who = self.effective("installer_for")
        return bool(who == 0 or (who == 1 and self.can_administer(name)))

    def covers(self, name: str) -> bool:
        """Return whether the limits of a shared computer apply to an account; never to an administrator."""
        listed = belongs(self.effective("covered"), self._identities_of(self._account(name)))
        return listed and not self.can_administer(name)

    def browses(self, name: str, drive: str) -> bool:
        """Return whether an account can browse to a drive."""
        return not self.covers(name) or not {"*", drive} & set(self.effective("drives_hidden"))

    def opens_settings(self, name: str) -> bool:
        """Return whether an account can open the machine's settings."""
        return not (self.covers(name) and self.effective("settings_shut"))

    def idle_minutes(self, name: str) -> int:
        """Return after how many idle minutes a session of an account locks; 0 for never."""
        own = self._account(name)["own_idle"]
        return int(self.effective("idle_minutes") if own is None or self.effective("idle_pinned") else own)

    def first_screen(self) -> dict[str, Any]:
        """Return what the sign-in screen shows."""
        hidden = self.effective("hidden")
        open_ones = [account for account in self._data["accounts"] if account["open"]]
        seen = [account for account in self._data["accounts"] if account["last_sign_in"]]
        last = max(seen, key=lambda account: str(account["last_sign_in"]), default=None)
        return {
            "accounts": [a["name"] for a in open_ones if not belongs(hidden, self._identities_of(a))],
            "last": last["name"] if last is not None and self.effective("shows_last") else "",
            "off": bool(self.effective("off_button")),
            "keys_first": bool(self.effective("keys_first")),
            "greeting": dict(self.effective("greeting")),
        }

    def locked_screen(self, name: str) -> str:
        """Return what a locked session of an account shows."""
        tells = self.effective("locked_tells")
        return f"{name} of {self.name}" if tells == 2 else name if tells == 1 else ""

    def files(self, name: str) -> tuple[str, list[dict[str, Any]]]:
        """Return the home of an account, and everything else that belongs to it."""
        account = self._account(name)
        return account["home"], [dict(file) for file in self._data["disk"] if file["owner"] == account["id"]]

    def can_administer(self, name: str) -> bool:
        """Return whether a session of the account that began now could change the machine."""
        return bool(self._account(name)["id"] in self._group(ADMINISTRATORS)["members"])

    # Changing

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
        account = _account(identity, name, self.clock)
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

    def describe(self, name: str, key: str, text: str) -> None:
        """Set details of an account: ``full_name``, ``note``, ``hint``."""
        if key not in ("full_name", "note", "hint") or not text.isprintable():
            raise No(f"unknown detail {key}")
        self._account(name)[key] = text

    def set_recovery(self, name: str, answers: dict[str, str]) -> None:
        """Set the recovery questions of an account; none to remove them."""
        kept = [{"question": question, "answer": self._kept(answer)} for question, answer in answers.items()]
        self._account(name)["recovery"] = kept

    def tie(self, name: str, outside: str) -> None:
        """Link an account to an online identity."""
        if outside and self._data["policy"]["outside"] < 2:
            raise No("this machine ties no further accounts")
        self._account(name)["outside"] = outside

    def mark(self, name: str, key: str, on: bool) -> None:
        """Set ``must_change``, ``cannot_change`` or ``never_ends``. The first excludes the two others."""
        account = self._account(name)
        others = ("cannot_change", "never_ends") if key == "must_change" else ("must_change",)
        if key not in (*others, "must_change", "cannot_change", "never_ends"):
            raise No(f"unknown mark {key}")
        standing = [other for other in others if account[other]]
        if on and standing:
            raise No(f"{name}: {standing[0]} and {key} cannot be combined")
        account[key] = on

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
        account["ends"] = moment.isoformat() if moment else None

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
        if not self._matches(account["password"], old):
            raise No("the present password is another one")
        policy = self._data["policy"]
        age = self.clock - datetime.fromisoformat(account["password"]["at"])
        if age < timedelta(days=policy["age_min_days"]) and not (account["must_change"] or self._too_old(account)):
            raise No(f"the password is too young to be changed (age_min_days = {policy['age_min_days']})")
        self._check_password(name, new)
        earlier = [account["password"], *account["history"]][: policy["history"]]
        if any(self._matches(kept, new) for kept in earlier):
            raise No("the password was used before")
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

    def sign_in(self, name: str, password: str, route: str = "console") -> int:
        """Sign in, or raise No and count the failed attempt. Return the token of the session."""
        account = self._account(name)
        if not account["open"]:
            raise No("the account is closed")
        if self._locked_until(account) is not None:
            raise No("the account is locked")
        if not self._matches(account["password"], password):
            self._count_try(account)
            raise No("the password is wrong")
        if self._has_ended(account):
            raise No("the account has ended")
        if account["outside"] and not self._data["policy"]["outside"]:
            raise No("accounts linked to an online identity cannot sign in")
        if route not in self.logon_lists():
            raise No(f"this machine has no {route}")
        taken, denied = self.logon_lists()[route]
        identities = self._identities_of(account)
        if not belongs(taken, identities) or belongs(denied, identities):
            raise No(f"this account is denied sign-in by {route}")
        if password == "" and route not in self._data["policy"]["blank_by"]:
            raise No(f"a blank password is not accepted: {route}")
        if account["must_change"] or self._too_old(account):
            raise NewPasswordFirst("the password must be changed first")
        account["tries"], account["locked_at"] = [], None
        return self._begin_session(account, route)

    def _begin_session(self, account: dict[str, Any], route: str) -> int:
        account["last_sign_in"] = self.clock.isoformat()
        for key in AFTER_SIGN_IN:
            self._data["waiting"].pop(key, None)
        token = 1 + max((session["token"] for session in self._data["sessions"]), default=0)
        may = self.can_administer(account["name"])
        session = {"token": token, "account": account["id"], "way": route, "since": self.clock.isoformat(), "may": may}
        self._data["sessions"].append(session)
        return token

    def session_may_administer(self, token: int) -> bool:
        """Return whether an open session can change the machine, by the rights of its beginning."""
        return any(session["token"] == token and session["may"] for session in self._data["sessions"])

    def sign_out(self, token: int) -> None:
        """End a session; a temporary home is emptied."""
        ended = next((session for session in self._data["sessions"] if session["token"] == token), None)
        if ended is None:
            raise No(f"there is no session {token}")
        self._data["sessions"].remove(ended)
        for account in self._data["accounts"]:
            if account["id"] == ended["account"] and account["emptied"]:
                inside = f"{account['home']}/"
                self._data["disk"] = [f for f in self._data["disk"] if not f["place"].startswith(inside)]

    def restart(self) -> str:
        """Restart the machine: sessions end, and waiting values take effect.

        Returns the account that is then signed in automatically, if any."""
        for session in list(self._data["sessions"]):
            self.sign_out(session["token"])
        self._data["waiting"].clear()
        name = self.opens_as()
        if name:
            self._begin_session(self._account(name), "console")
        return name

    def set_idle(self, name: str, minutes: int | None) -> None:
        """Set an idle time of an account's own; None for the machine's."""
        if minutes is not None and (fault := fault_in("idle_minutes", minutes, set())):
            raise No(fault)
        self._account(name)["own_idle"] = minutes

    # Within

    def _identities(self) -> set[int]:
        """Return the IDs of every account and group."""
        return {thing["id"] for thing in (*self._data["accounts"], *self._data["groups"])}

    def _identities_of(self, account: dict[str, Any]) -> set[int]:
        """Return an account's own, and those of its groups."""
        return {account["id"], *(g["id"] for g in self._data["groups"] if account["id"] in g["members"])}

    def _count_try(self, account: dict[str, Any]) -> None:
        policy = self._data["policy"]
        account["tries"] = [*self._recent(account), self.clock.isoformat()]
        locks = account["id"] != KEEPER or policy["lock_keeper"]
        if locks and policy["try_limit"] and len(account["tries"]) >= policy["try_limit"]:
            account["locked_at"] = self.clock.isoformat()

    def _too_old(self, account: dict[str, Any]) -> bool:
        longest = self._data["policy"]["age_max_days"]
        if not longest or account["never_ends"] or account["password"] is None:
            return False
        age = self.clock.date() - datetime.fromisoformat(account["password"]["at"]).date()
        return bool(age.days > longest)

    def _recent(self, account: dict[str, Any]) -> list[str]:
        window = self._data["policy"]["window_minutes"]
        if window is None:
            return []
        since = self.clock - timedelta(minutes=window)
        return [t for t in account["tries"] if datetime.fromisoformat(t) > since]

    def _locked_until(self, account: dict[str, Any]) -> str | None:
        if not account["locked_at"] or not self._data["policy"]["try_limit"]:
            return None
        minutes = self._data["policy"]["lock_minutes"]
        if not minutes:
            return "unlocked"
        until = datetime.fromisoformat(account["locked_at"]) + timedelta(minutes=minutes)
        return until.isoformat() if until > self.clock else None

    def _check_password(self, name: str, password: str) -> None:
        policy = self._data["policy"]
        if len(password) < policy["length"]:
            raise No(f"the password is shorter than {policy['length']} characters")
        tests = (string.ascii_lowercase, string.ascii_uppercase, string.digits)
        kinds = {next((i for i, pool in enumerate(tests) if c in pool), 3) for c in password}
        if len(kinds) < policy["classes"]:
            raise No(f"the password has fewer than {policy['classes']} kinds of character")
        if password and not policy["name_inside"] and name.casefold() in password.casefold():
            raise No("the password contains the account's name")

    def _check_name(self, name: str, but: int | None = None) -> None:
        if not name.strip() or len(name) > LONGEST_NAME or not name.isprintable() or set(name) & set(FORBIDDEN):
            raise No(f"{name!r} is not an account name: 1 to {LONGEST_NAME} printable characters, none of {FORBIDDEN}")
        things = [*self._data["accounts"], *self._data["groups"]]
        taken = {thing["name"].casefold() for thing in things if thing["id"] != but} | {self.name.casefold()}
        if name.casefold() in taken:
            raise No(f"{name} is in use by an account, a group or the machine")

    def _store(self, account: dict[str, Any], password: str) -> None:
        if account["password"] is not None:
            account["history"] = [account["password"], *account["history"]][:MOST_EARLIER]
        account["password"] = self._kept(password)

    def _kept(self, password: str) -> dict[str, Any]:
        salt = os.urandom(16)
        return {
            "scheme": "pbkdf2",
            "salt": salt.hex(),
            "hash": _hashed(password, salt),
            "blank": password == "",
            "at": self.clock.isoformat(),
        }

    @staticmethod
    def _matches(kept: dict[str, Any] | None, password: str) -> bool:
        return kept is not None and _hashed(password, bytes.fromhex(kept["salt"])) == kept["hash"]

    def _account(self, name: str) -> dict[str, Any]:
        for account in self._data["accounts"]:
            if account["name"].casefold() == name.casefold():
                found: dict[str, Any] = account
                return found
        raise No(f"there is no account {name}")

    def _group(self, which: str | int) -> dict[str, Any]:
        for group in self._data["groups"]:
            if which in (group["name"], group["id"]):
                found: dict[str, Any] = group
                return found
        raise No(f"there is no group {which}")


UNMARKED: dict[str, Any] = {
    "full_name": "",
    "note": "",
    "home": "",
    "emptied": False,
    "hint": "",
    "recovery": [],
    "outside": "",
    "open": True,
    "password": None,
    "history": [],
    "must_change": False,
    "cannot_change": False,
    "never_ends": False,
    "ends": None,
    "own_idle": None,
    "tries": [],
    "locked_at": None,
    "last_sign_in": None,
}


def _account(identity: int, name: str, clock: datetime) -> dict[str, Any]:
    return {"id": identity, "name": name, **json.loads(json.dumps(UNMARKED)), "made": clock.isoformat()}


def _hashed(password: str, salt: bytes) -> str:
    import hashlib  # looking at a machine needs no hashes

    return hashlib.pbkdf2_hmac("sha256", password.encode(), salt, ROUNDS).hex()
