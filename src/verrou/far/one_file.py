"""The one-file form of Verrou: the program and the packages that it needs, for any Python 3.11 and later.

The one that is carried holds beside each module the module compiled by the Python that made it, which starts sooner;
any other takes the source, as zipimport does where a compiled module has another magic number. The one that is sent
over a line has the sources alone, a third of the size. The same sources, packages and version of Python give the same
file."""

import io
import marshal
import re
import zipfile
from collections.abc import Iterator
from importlib.metadata import Distribution, PackageNotFoundError, distribution
from importlib.util import MAGIC_NUMBER, source_hash
from pathlib import Path, PurePath, PurePosixPath

import verrou

START = """\
import sys
from verrou.far.load_once import load_once

load_once(sys.path[0])
from verrou.__main__ import main

main()
"""
LEFT_OUT = (".so", ".pyd", ".pyc", ".pyi", ".c", "RECORD", "INSTALLER", "REQUESTED", "direct_url.json", "uv_cache.json")
"""How the names of files end that are of no use in there, or tell of the computer that made it."""
WORDS, ONE_LIST = "xkcdpass/static/", "eff-long"
"""The one list of words that generated passwords are made of; its package has many."""
BEGINNING = b"#!/usr/bin/env python3\n"
LONG_AGO = (1980, 1, 1, 0, 0, 0)


def one_file(level: int = 6) -> bytes:
    """Return the one-file form of the program that runs, to be sent; ``level`` is that of zlib(3)."""
    file = verrou.archive()
    return Path(file).read_bytes() if file else packed(_packages(), level)


def with_compiled(packages: dict[str, bytes]) -> dict[str, bytes]:
    """Return the files of packages, with each module compiled too."""
    return packages | {f"{name}c": compiled(name, text) for name, text in packages.items() if name.endswith(".py")}


def packed(packages: dict[str, bytes], level: int) -> bytes:
    """Return an archive that Python runs, of the files of its packages by their place in it."""
    contents = {**packages, "__main__.py": START.encode()}
    stream = io.BytesIO(BEGINNING)
    stream.seek(0, io.SEEK_END)
    with zipfile.ZipFile(stream, "a", zipfile.ZIP_DEFLATED, compresslevel=level) as archive:
        for name in sorted(contents):
            entry = zipfile.ZipInfo(name, LONG_AGO)
            entry.compress_type, entry.external_attr = zipfile.ZIP_DEFLATED, 0o644 << 16
            archive.writestr(entry, contents[name])
    return stream.getvalue()


def compiled(name: str, source: bytes) -> bytes:
    """Return a module compiled, not to be checked against its source when it is loaded (PEP 552).

    In this version of marshal nothing depends on how often an object happened to be used when it was written."""
    code = compile(source, name, "exec", dont_inherit=True)
    return MAGIC_NUMBER + UNCHECKED + source_hash(source) + marshal.dumps(code, 2)


UNCHECKED = (1).to_bytes(4, "little")
"""Flags of a compiled module that is known by the hash of its source, which is not compared (PEP 552)."""


def _packages() -> dict[str, bytes]:
    """Return the content of each file of Verrou and of the packages that it needs, by its place in the archive."""
    found: dict[str, bytes] = {}
    for package in _needed("verrou"):
        for place in package.files or ():
            if is_part(place):
                found[place.as_posix()] = Path(str(package.locate_file(place))).read_bytes()
    top = Path(verrou.__file__).parent
    for path in sorted(top.rglob("*")) + sorted((top / "handbook").glob("*")):
        name = PurePosixPath("verrou", path.relative_to(top).as_posix())
        if path.is_file() and is_part(name):
            found[name.as_posix()] = path.read_bytes()
    return found


def is_part(place: PurePath) -> bool:
    """Return whether a file of the packages belongs into the archive."""
    name = place.as_posix()
    elsewhere = name.startswith(("..", "bin/", "share/")) or "__pycache__" in name
    other_list = name.startswith(WORDS) and place.name != ONE_LIST
    # A file beside the packages is how an editable installation finds its source.
    return not (elsewhere or other_list or name.endswith(LEFT_OUT) or (len(place.parts) == 1 and name.endswith(".pth")))


def _needed(name: str) -> Iterator[Distribution]:
    """Yield a package and all that it needs without extras (PEP 508)."""
    waiting, seen = [name], set()
    while waiting:
        one = waiting.pop()
        if one in seen:
            continue
        seen.add(one)
        try:
            package = distribution(one)
        except PackageNotFoundError:  # for another version of Python
            continue
        yield package
        for line in package.requires or ():
            needed, _, condition = line.partition(";")
            if "extra ==" not in condition:
                waiting.append(re.split(r"[^A-Za-z0-9._-]", needed, maxsplit=1)[0])
