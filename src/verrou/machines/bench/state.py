"""A bench machine as it is: its file read and checked, and what it tells of accounts, rules and screens.

A simulated workstation, stored in one JSON file; see :mod:`~.authority`."""

import json
import os
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any, Self

from verrou.machines.bench import shape
from verrou.machines.bench.data import (
    AccountData,
    FileData,
    GroupData,
    MachineData,
    Moment,
    PasswordData,
    Policy,
    Screen,
    SessionData,
    ShownAccount,
    ShownGroup,
)
from verrou.machines.bench.session import (
    ADMINISTRATORS,
    AFTER_RESTART,
    AFTER_SIGN_IN,
    FULL_ONLY,
    GIVES_LIMITS,
    GUESTS,
    KEEPER,
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

FORMAT = 2
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
    """The authority rejects the request; the message says why, ``keys`` by which of its numbers, switches and lists."""

    def __init__(self, message: str, *keys: str) -> None:
        super().__init__(message)
        self.keys = keys


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


class State:
    """One bench machine, looked at. Nothing here changes it."""

    def __init__(self, text: str) -> None:
        try:
            data = json.loads(text)
            for key, empty in EMPTY.items():
                data.setdefault(key, type(empty)())
            self._data: MachineData = data
            if self._data["bench"] != FORMAT:
                raise Damaged(f"made for another version: {self._data['bench']!r}")
            self.clock = datetime.fromisoformat(self._data["clock"])
            self._data["accounts"] = [{**UNMARKED, **account} for account in self._data["accounts"]]
            for group in self._data["groups"]:
                group.setdefault("note", "")
            self._data["policy"] = {**json.loads(json.dumps(SHIPPED_SEAT)), **self._data["policy"]}
            self._data["policy"] = {**SHIPPED_POLICY, **self._data["policy"]}
            self.name, self.edition = str(self._data["name"]), str(self._data["edition"])
            self.serial = str(self._data["serial"])
            if strange := shape.fault(self._data, MachineData):
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
    def fresh(cls, name: str, clock: datetime, edition: str = "full", language: str = "en") -> Self:
        """Return a new machine."""
        words = LANGUAGES[language]
        accounts = [new_account(i, words[i], clock) for i in (KEEPER, PASSERBY, PATTERN)]
        for account in accounts[1:]:
            account["open"] = False
        members = {ADMINISTRATORS: [KEEPER], USERS: [], GUESTS: [PASSERBY], REMOTE_USERS: []}
        data = {
            "bench": FORMAT,
            "serial": os.urandom(8).hex(),
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
        self._data["clock"] = self._now
        return json.dumps(self._data, indent=1, ensure_ascii=False) + "\n"

    def compact(self) -> str:
        """Return the same in one line, which is made much sooner: to compare machines, and to copy one in memory."""
        self._data["clock"] = self._now
        return json.dumps(self._data, ensure_ascii=False)

    def save(self, path: Path) -> None:
        """Save it; the file is the old one or the new one at every moment."""
        staged = path.with_name(path.name + ".staged")
        with open(staged, "w", encoding="utf-8") as stream:
            stream.write(self.text())
            stream.flush()
            os.fsync(stream.fileno())
        os.replace(staged, path)

    def accounts(self) -> list[ShownAccount]:
        """Return every account with its groups, and without its password hash."""
        return [self._shown(account) for account in self._data["accounts"]]

    def _shown(self, account: AccountData) -> ShownAccount:
        kept = account["password"]
        return {
            "id": account["id"],
            "name": account["name"],
            "full_name": account["full_name"],
            "note": account["note"],
            "home": account["home"],
            "emptied": account["emptied"],
            "hint": account["hint"],
            "outside": account["outside"],
            "open": account["open"],
            "must_change": account["must_change"],
            "cannot_change": account["cannot_change"],
            "never_ends": account["never_ends"],
            "ends": account["ends"],
            "own_idle": account["own_idle"],
            "locked_at": account["locked_at"],
            "last_sign_in": account["last_sign_in"],
            "questions": [each["question"] for each in account["recovery"]],
            "sessions": [
                {"way": s["way"], "since": s["since"], "may": ADMINISTRATORS in s["holds"]}
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

    def groups(self) -> list[ShownGroup]:
        """Return every group with its members by name."""
        names = {a["id"]: a["name"] for a in self._data["accounts"]}
        return [{**g, "members": [names[m] for m in g["members"] if m in names]} for g in self._data["groups"]]

    def policy(self) -> Policy:
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
        return {**LIMITS, **SEAT_LIMITS, **GIVES_LIMITS}[key]

    @property
    def tells_programs_apart(self) -> bool:
        """Whether this edition can ask something else for each kind of program."""
        return self.edition != "basic"

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

    def _may_begin(self, account: AccountData) -> bool:
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

    def _has_ended(self, account: AccountData) -> bool:
        return bool(account["ends"] and self.clock >= datetime.fromisoformat(account["ends"]))

    def _held(self, who: str | int) -> set[int]:
        """Return the IDs of an account and its groups; of a session, by its token, those of its beginning."""
        return set(self._session(who)["holds"]) if isinstance(who, int) else self._identities_of(self._account(who))

    def kind_of(self, who: str | int) -> str:
        """Return what an account or a session is to elevation: ``keeper``, ``administrator``, ``guest`` or ``user``."""
        identities = self._held(who)
        if KEEPER in identities:
            return "keeper"
        if ADMINISTRATORS in identities:
            return "administrator"
        return "guest" if PASSERBY in identities or (GUESTS in identities and USERS not in identities) else "user"

    def elevate(self, who: str | int, program: str) -> str:
        """Return the outcome of elevating a program for an account, or in a session; see :func:`elevation`."""
        now = {key: self.effective(key) for key in SHIPPED_SEAT}
        return elevation(now, self.kind_of(who), program)

    def may(self, who: str | int, duty: str) -> bool:
        """Return whether somebody may shut the machine down (``off``), set its ``clock`` or ``install``."""
        return belongs(self.effective(f"duty_{duty}"), self._held(who))

    def commands_of(self, name: str) -> tuple[str, ...]:
        """Return the commands that an account that is no administrator may run with administrator rights."""
        held = self._held(name)
        listed = () if ADMINISTRATORS in held else self.effective("commands")
        return tuple(sorted({line for identity, line in listed if identity in held}))

    def runs(self, who: str | int, line: str) -> bool:
        """Return whether somebody may run a command with administrator rights."""
        return any(line == each for identity, each in self.effective("commands") if identity in self._held(who))

    def installs(self, who: str | int) -> bool:
        """Return whether an installer starts at all for somebody."""
        for_whom = self.effective("installer_for")
        return bool(for_whom == 0 or (for_whom == 1 and self.can_administer(who)))

    def covers(self, who: str | int) -> bool:
        """Return whether the limits of a shared computer apply to somebody; never to an administrator."""
        return belongs(self.effective("covered"), self._held(who)) and not self.can_administer(who)

    def browses(self, who: str | int, drive: str) -> bool:
        """Return whether somebody can browse to a drive."""
        return not self.covers(who) or not {"*", drive} & set(self.effective("drives_hidden"))

    def opens_settings(self, who: str | int) -> bool:
        """Return whether somebody can open the machine's settings."""
        return not (self.covers(who) and self.effective("settings_shut"))

    def idle_minutes(self, name: str) -> int:
        """Return after how many idle minutes a session of an account locks; 0 for never."""
        own = self._account(name)["own_idle"]
        return int(self.effective("idle_minutes") if own is None or self.effective("idle_pinned") else own)

    def first_screen(self) -> Screen:
        """Return what the sign-in screen shows."""
        hidden = self.effective("hidden")
        open_ones = [account for account in self._data["accounts"] if account["open"] and account["id"] != PATTERN]
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

    def files(self, name: str) -> tuple[str, list[FileData]]:
        """Return the home of an account, and everything else that belongs to it."""
        account = self._account(name)
        return account["home"], [file for file in self._data["disk"] if file["owner"] == account["id"]]

    def can_administer(self, who: str | int) -> bool:
        """Return whether an open session, or one of an account that began now, can change the machine."""
        return ADMINISTRATORS in self._held(who)

    def _session(self, token: int) -> SessionData:
        for session in self._data["sessions"]:
            if session["token"] == token:
                return session
        raise No(f"there is no session {token}")

    def name_of(self, token: int) -> str:
        """Return whose session it is."""
        owner = self._session(token)["account"]
        return next((a["name"] for a in self._data["accounts"] if a["id"] == owner), "")

    @property
    def _now(self) -> Moment:
        return Moment(self.clock.isoformat())

    def _identities(self) -> set[int]:
        """Return the IDs of every account and group."""
        return {thing["id"] for thing in (*self._data["accounts"], *self._data["groups"])}

    def _identities_of(self, account: AccountData) -> set[int]:
        """Return an account's own, and those of its groups."""
        return {account["id"], *(g["id"] for g in self._data["groups"] if account["id"] in g["members"])}

    @property
    def switched_off(self) -> bool:
        """Whether the machine is off."""
        return self._data["switched_off"]

    def days_left(self, name: str) -> int | None:
        """Return in how many days the password of an account has to be changed; None for no such day."""
        account, longest = self._account(name), self._data["policy"]["age_max_days"]
        if not longest or account["never_ends"] or account["password"] is None:
            return None
        age = self.clock.date() - datetime.fromisoformat(account["password"]["at"]).date()
        return int(longest) - age.days

    def _too_old(self, account: AccountData) -> bool:
        left = self.days_left(account["name"])
        return left is not None and left < 0

    def _recent(self, account: AccountData) -> list[Moment]:
        window = self._data["policy"]["window_minutes"]
        if window is None:
            return []
        since = self.clock - timedelta(minutes=window)
        return [t for t in account["tries"] if datetime.fromisoformat(t) > since]

    def _locked_until(self, account: AccountData) -> str | None:
        if not account["locked_at"] or not self._data["policy"]["try_limit"]:
            return None
        minutes = self._data["policy"]["lock_minutes"]
        if not minutes:
            return "unlocked"
        until = datetime.fromisoformat(account["locked_at"]) + timedelta(minutes=minutes)
        return until.isoformat() if until > self.clock else None

    @staticmethod
    def _matches(kept: PasswordData | None, password: str) -> bool:
        return kept is not None and hashed(password, bytes.fromhex(kept["salt"])) == kept["hash"]

    def _account(self, name: str) -> AccountData:
        for account in self._data["accounts"]:
            if account["name"].casefold() == name.casefold():
                return account
        raise No(f"there is no account {name}")

    def _group(self, which: str | int) -> GroupData:
        for group in self._data["groups"]:
            if which in (group["name"], group["id"]):
                return group
        raise No(f"there is no group {which}")


EMPTY: dict[str, object] = {
    "serial": "",
    "sessions": [],
    "disk": [],
    "archives": [],
    "waiting": {},
    "front": 0,
    "switched_off": False,
    "keys_pressed": False,
}
"""What a file may lack."""
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


def new_account(identity: int, name: str, clock: datetime) -> AccountData:
    """Return an account as it is created."""
    account: AccountData = json.loads(json.dumps(UNMARKED | {"id": identity, "name": name, "made": clock.isoformat()}))
    return account


def hashed(password: str, salt: bytes) -> str:
    """Return the hash of a password."""
    import hashlib  # looking at a machine needs no hashes

    return hashlib.pbkdf2_hmac("sha256", password.encode(), salt, ROUNDS).hex()
