"""Baselines by name: included ones and files."""

# Imports within functions: for a quick start of commands that take no baseline.

import os
from pathlib import Path
from typing import TYPE_CHECKING

import verrou
from verrou.cli.user import user
from verrou.core.errors import BadInput, VerrouError
from verrou.machines.local_files import ordinary_text

if TYPE_CHECKING:
    from verrou.core.baselines.baseline import Baseline

BYTE_ORDER_MARK = "\ufeff"
"""What some editors begin a text with; it is no part of it."""


MOST_OF_A_BASELINE = 1_000_000
"""How many bytes a baseline may have: people write them."""


INCLUDED_BASELINES = ("essential", "office", "public-terminal", "shared-desk")
"""Named here, since looking for them where the program is one file takes longer than reading one."""


def fetch_baseline(name: str, named_in: str = "") -> tuple[str, str]:
    """Return the text of a baseline and its place: an included one, or a file relative to the one that names it.

    Raises: BadInput: there is none, or it cannot be read."""
    if name in INCLUDED_BASELINES:
        return verrou.packaged_text("baselines", f"{name}.toml"), name
    return user().baseline(name, named_in)


def baseline_file(name: str, named_in: str) -> tuple[str, str]:
    """Return the text of a baseline file on this computer, and its place. Raises: BadInput."""
    path = Path(os.path.normpath(Path(named_in).parent / name)) if named_in else Path(name)
    try:
        return ordinary_text(path, MOST_OF_A_BASELINE).removeprefix(BYTE_ORDER_MARK), str(path)
    except FileNotFoundError:
        from verrou.core.values import nearest

        close = nearest(name, INCLUDED_BASELINES)
        hint = f"Did you mean {close}?" if close else f"Included baselines: {', '.join(INCLUDED_BASELINES)}."
        raise BadInput(f"{path}: no such baseline. {hint}") from None
    except UnicodeDecodeError:
        raise BadInput(f"{path}: not a text file; a baseline is a TOML file in UTF-8") from None
    except OSError as error:
        raise BadInput(f"{path}: {error.strerror}. Give a baseline file that can be read.") from None


def load_baseline(name: str) -> "Baseline":
    """Return the baseline of that name, with all it builds on."""
    from verrou.core.baselines.baseline import read_baseline

    return read_baseline(*fetch_baseline(name), fetch_baseline)


def is_baseline(name: str) -> bool:
    """Return whether a baseline of that name can be read."""
    try:
        load_baseline(name)
    except VerrouError:
        return False
    return True
