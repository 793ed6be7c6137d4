"""Bench machines to practise on: with a known number of flaws, and the job sheet that they fall short of."""

import secrets
import textwrap
from collections.abc import Callable, Mapping, Sequence
from datetime import datetime, timedelta
from random import Random

from attrs import frozen

from verrou.core.baselines.toml_text import comment, key, value
from verrou.core.rules import CATALOGUE
from verrou.machines.bench import session as seat
from verrou.machines.bench.authority import LANGUAGES, Authority
from verrou.machines.bench.rules import ADAPTERS

CLOCK = datetime(2026, 9, 14, 8, 30)
UNTIL = CLOCK.date() + timedelta(days=200)
"""The last day of the day pass."""


@frozen(repr=False)
class Order:
    """What the job sheet asks of one rule, as a baseline file has it; and values of the machine that fall short."""

    rule: str
    required: object
    short: tuple[object, ...]


@frozen(repr=False)
class Practice:
    """A machine, its job sheet as a baseline and as a page, its passwords, and the rules that fall short."""

    machine: Authority
    baseline: str
    page: str
    passwords: Mapping[str, str]
    flaws: tuple[str, ...]


ADMINISTRATORS, USERS, GUESTS = ("group:administrators", "group:users", "group:guests")
ORDERS: Mapping[str, Sequence[Order]] = {
    "password": (
        Order("password.min_length", 12, (8, 6)),
        Order("password.classes", 3, (2, 1)),
        Order("password.remember", 6, (2, 0)),
        Order("password.max_age", "90 days", ("365 days", "730 days")),
        Order("password.warn_before", "7 days", ("1 days",)),
        Order("password.may_contain_name", False, (True,)),
        Order("password.blank_accepted", ["console"], (["console", "network"],)),
    ),
    "lockout": (
        Order("lockout.after", 5, (20, 50)),
        Order("lockout.exempts", "nobody", ("built-in",)),
    ),
    "logon": (
        Order("logon.network.denied", [GUESTS], ([],)),
        Order("logon.remote-screen.allowed", [ADMINISTRATORS], ([ADMINISTRATORS, USERS],)),
        Order("logon.network.allowed", [ADMINISTRATORS, USERS], ("everyone",)),
    ),
    "rights": (
        Order("rights.shut_down", [ADMINISTRATORS, USERS], ("everyone",)),
        Order("rights.set_clock", [ADMINISTRATORS], ([ADMINISTRATORS, USERS], "everyone")),
        Order("rights.install_software", [ADMINISTRATORS], ([ADMINISTRATORS, USERS],)),
    ),
    "elevation": (
        Order("elevation.administrator", "password", ("nothing", {"all": "password", "system": "nothing"})),
        Order("elevation.standard", "denied", ("admin-password",)),
        Order("elevation.guest", "denied", ("admin-password",)),
        Order("elevation.prompt_apart", True, (False,)),
        Order("elevation.remembered_for", "5 minutes", ("30 minutes", "2 hours")),
        Order("elevation.unanswered_after", "2 minutes", ("never",)),
    ),
    "screen": (
        Order("screen.hidden_accounts", [ADMINISTRATORS], ([],)),
        Order("screen.shows_last_account", False, (True,)),
        Order("screen.shut_down_button", False, (True,)),
        Order("screen.locked_shows", [], (["name"], ["name", "origin"])),
        Order("screen.attention_key", "required", ("not-required",)),
        Order("screen.locks_after", "10 minutes", ("1 hour", "never")),
        Order("screen.notice", {"title": "Cap Fauvel", "text": "For looking up birds."}, ("none",)),
    ),
    "sharing": (
        Order("sharing.hidden_drives", ["removable"], ([],)),
        Order("sharing.settings_closed", True, (False,)),
        Order("sharing.installer", "administrators", ("everyone",)),
        Order("sharing.applies_to", [GUESTS], ([],)),
    ),
}
"""By family the rules that a machine's authority keeps."""


Flaw = Callable[[Authority], None]


def _with_hint(machine: Authority) -> None:
    machine.describe("tern", "hint", "the ship, and the year")


def _with_questions(machine: Authority) -> None:
    machine.set_recovery("tern", {"Which bird did you see first?": secrets.token_urlsafe(12)})


def _linked(machine: Authority) -> None:
    machine.set_policy("outside", 2)


def _blank(machine: Authority) -> None:
    machine.reset_password("ringer", "")


def _exempt(machine: Authority) -> None:
    machine.mark("tern", "never_ends", True)


def _left_over(machine: Authority) -> None:
    machine.set_end("petrel", CLOCK - timedelta(days=45))


def _without_end(machine: Authority) -> None:
    machine.set_end("daypass", None)


def _more_of_them(machine: Authority) -> None:
    for name in ("ana", "ringer"):
        machine.join(name, _group(machine, seat.ADMINISTRATORS))


def _opened(identity: int) -> Flaw:
    def flaw(machine: Authority) -> None:
        machine.set_open(_account(machine, identity), True)

    return flaw


def _named_as_delivered(machine: Authority) -> None:
    machine.rename("lamplighter", LANGUAGES["en"][seat.KEEPER])


OF_ACCOUNTS: Mapping[str, Mapping[str, tuple[object, Flaw]]] = {
    "builtin": {
        "builtin.admin_enabled": (False, _opened(seat.KEEPER)),
        "builtin.guest_enabled": (False, _opened(seat.PASSERBY)),
        "builtin.admin_name": ("changed", _named_as_delivered),
    },
    "population": {
        "population.hints": ("forbidden", _with_hint),
        "population.recovery_questions": ("forbidden", _with_questions),
        "population.linked_identities": ("existing-only", _linked),
        "population.blank_passwords": ("guests", _blank),
        "population.ageing_exempt": ("nobody", _exempt),
        "population.expired_accounts": ("disabled", _left_over),
        "population.temporary_limit": ("365 days", _without_end),
        "population.administrators": (2, _more_of_them),
    },
}
"""By family the rules about accounts: what is required, and how the machine falls short of it."""
PEOPLE = {
    "warden": "Wilma Warden",
    "ringer": "Rita Ringer",
    "tern": "Tara Tern",
    "ana": "Ana Alk",
    "petrel": "Petra Petrel",
}


def make_practice(name: str, seed: str) -> Practice:
    """Return a machine with one to three flaws of every family; the same for one seed, but for salts and passwords."""
    rng = Random(seed)
    machine = Authority.fresh(name, CLOCK - timedelta(days=30))
    passwords = {}
    for each, full_name in PEOPLE.items():
        passwords[each] = secrets.token_urlsafe(9)
        machine.add(each, full_name, passwords[each], must_change=False)
    machine.add("daypass", "day visitors", "", must_change=False)
    machine.leave("daypass", _group(machine, seat.USERS))
    machine.join("daypass", _group(machine, seat.GUESTS))
    machine.set_end("daypass", datetime.combine(UNTIL, CLOCK.time()))
    machine.join("warden", _group(machine, seat.ADMINISTRATORS))
    machine.rename(_account(machine, seat.KEEPER), "lamplighter")
    machine.reset_password("lamplighter", secrets.token_urlsafe(9))
    machine.reset_password(_account(machine, seat.PASSERBY), "")
    machine.set_open("lamplighter", False)
    machine.clock = CLOCK
    machine.set_policy("outside", 1)
    asked: dict[str, dict[str, object]] = {}
    broken: list[str] = []
    for family, flaws in OF_ACCOUNTS.items():
        chosen = rng.sample(sorted(flaws), rng.randint(1, min(3, len(flaws))))
        broken += chosen
        asked[family] = {rule: required for rule, (required, _) in flaws.items()}
        for rule in chosen:
            flaws[rule][1](machine)
    for family, orders in _orders(rng).items():
        asked[family] = {order.rule: order.required for order in orders}
        for order in orders:
            _set(machine, order.rule, order.short[0] if order.short else order.required)
            broken += [order.rule] if order.short else []
    machine.restart()
    return Practice(machine, _baseline(name, asked), _page(name, asked), passwords, tuple(sorted(broken)))


def _orders(rng: Random) -> dict[str, list[Order]]:
    """Return the orders of each family; of those that fall short the one value that the machine has, of others none."""
    found = {}
    for family, orders in ORDERS.items():
        short = rng.sample(range(len(orders)), rng.randint(1, min(3, len(orders))))
        found[family] = [
            Order(order.rule, order.required, (rng.choice(order.short),) if number in short else ())
            for number, order in enumerate(orders)
        ]
    return found


def _set(machine: Authority, rule_id: str, written: object) -> None:
    write = ADAPTERS[rule_id].write
    assert write is not None
    kind = CATALOGUE[rule_id].kind
    names = {f"group:{name}": f"group:{_group(machine, number)}" for name, number in _GROUPS.items()}
    meant = kind.with_group_names(kind.parse(written), lambda each: names.get(each, each))
    policy_key, number = write(machine, meant)
    machine.set_policy(policy_key, number)


_GROUPS = {"administrators": seat.ADMINISTRATORS, "users": seat.USERS, "guests": seat.GUESTS}


def _group(machine: Authority, identity: int) -> str:
    return next(str(group["name"]) for group in machine.groups() if group["id"] == identity)


def _account(machine: Authority, identity: int) -> str:
    return next(str(account["name"]) for account in machine.accounts() if account["id"] == identity)


def _baseline(name: str, asked: Mapping[str, Mapping[str, object]]) -> str:
    parts = [f"[baseline]\ntitle = {value(f'Cap Fauvel: {name}')}\n"]
    for family, rules in asked.items():
        lines = [f"{key(*rule.split('.')[1:])} = {value(required)}" for rule, required in rules.items()]
        parts.append(f"[{family}]\n" + "\n".join(lines) + "\n")
    return comment(f"The job sheet of {name}, to practise with.") + "\n" + "\n".join(parts)


def _page(name: str, asked: Mapping[str, Mapping[str, object]]) -> str:
    """Return the job sheet as somebody would hand it over."""
    lines = [f"Job sheet: {name}", "", "Please see to it that on this computer:", ""]
    for rules in asked.values():
        for rule_id, written in rules.items():
            lines += _item(_order_text(rule_id, written))
        lines.append("")
    lines += ["Who uses it: warden is its administrator; ringer, tern, ana and petrel are standard users; visitors use"]
    lines += [f"daypass, a guest, until {UNTIL}. Their passwords are in the file beside this page.", ""]
    lines += ["When it is done, hand back the sign-off sheet."]
    return "\n".join(lines) + "\n"


def _item(text: str) -> list[str]:
    return textwrap.wrap(f"- {text}", 98, subsequent_indent="  ")


def _order_text(rule_id: str, written: object) -> str:
    rule = CATALOGUE[rule_id]
    return rule.format(rule.kind.parse(written))
