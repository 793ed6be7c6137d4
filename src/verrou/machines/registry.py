"""The kinds of machine, and how an address finds its kind."""

import os
from collections.abc import Callable
from pathlib import Path

from verrou.core.errors import BadInput, NotEnoughRights
from verrou.machines.bench.kind import BENCH
from verrou.machines.kind import Kind
from verrou.machines.linux.kind import LINUX, THIS
from verrou.machines.protocol import Machine
from verrou.machines.survey.kind import SURVEY

KINDS: tuple[Kind, ...] = (LINUX, BENCH, SURVEY)


def addresses_text() -> str:
    """Return what an address of a machine looks like, for people."""
    *others, last = (kind.addresses for kind in KINDS)
    return f"{', '.join(others)} or {last}"


def suffixes() -> tuple[str, ...]:
    """Return the suffixes of files that are machines."""
    return tuple(kind.suffix for kind in KINDS if kind.suffix)


def open_machine(address: str) -> Machine:
    """Open the machine at an address, whatever its kind.

    Raises: BadInput: there is none. NotEnoughRights: reading is denied."""
    kind, address = _found(address)
    return kind.open(address)


def opener() -> Callable[[str], Machine]:
    """Return a function that opens many machines: :func:`open_machine`, with what they share kept between them."""
    openers: dict[str, Callable[[str], Machine]] = {}

    def open_next(address: str) -> Machine:
        kind, address = _found(address)
        if kind.name not in openers:
            openers[kind.name] = kind.opener()
        return openers[kind.name](address)

    return open_next


def takes_long(address: str) -> bool:
    """Return whether observing what may be a machine at an address may take a second."""
    return next((kind.takes_long for kind in KINDS if kind.suffix and address.endswith(kind.suffix)), True)


def machines_in(folder: Path) -> list[str]:
    """Return the addresses of machines in a folder, and other JSON files, to be named as foreign.

    Raises: BadInput: it is not a folder, or has no machine. NotEnoughRights: reading is denied."""
    try:
        names = sorted(entry.name for entry in os.scandir(folder) if _may_be_machine(entry))
    except PermissionError:
        raise NotEnoughRights(f"{folder}: this account cannot read it. Run as one that can.") from None
    except OSError as error:
        raise BadInput(f"{folder}: {error.strerror}. Give a folder with surveys or machines") from None
    if not names:
        raise BadInput(f"{folder}: found no machine. Give a folder with {_in_a_folder()}")
    beside = os.path.join(folder, "") if folder.parts else ""
    return [beside + name for name in names]


def _in_a_folder() -> str:
    return addresses_text().removeprefix(f'"{THIS}", ')


def _may_be_machine(entry: "os.DirEntry[str]") -> bool:
    return entry.name.endswith(".json") or any(kind.may_be(entry) for kind in KINDS)


def _found(address: str) -> tuple[Kind, str]:
    """Return the kind of the machine at an address, and the address in full."""
    try:
        kind = _kind_at(address)
        if kind is None and not Path(address).exists():
            address = _with_suffix(address)
            kind = _kind_at(address)
        if kind is not None:
            return kind, address
        found = next(filter(None, (each.why_not(address) for each in KINDS)), "")
        found = found or ("a file" if Path(address).exists() else "not found")
    except PermissionError as error:
        raise NotEnoughRights(f"{error.filename}: this account cannot read it. Run as one that can.") from None
    except (OSError, ValueError) as error:
        found = str(error)
    raise BadInput(f"no machine '{address}' ({found}). Give {addresses_text()}.")


def _kind_at(address: str) -> Kind | None:
    # No place is of two kinds, and a suffix is seen without a look at the disk.
    by_suffix_first = sorted(KINDS, key=lambda kind: not kind.suffix)
    return next((kind for kind in by_suffix_first if kind.is_at(address)), None)


def _with_suffix(address: str) -> str:
    """Return the address of a file given without its suffix."""
    meant = [address + suffix for suffix in suffixes() if Path(address + suffix).is_file()]
    if len(meant) > 1:
        raise BadInput(f"{address} can mean {' and '.join(meant)}. Give one of them.")
    return meant[0] if meant else address
