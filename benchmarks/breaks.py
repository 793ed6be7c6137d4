"""Breaks the program on purpose, at places and in ways drawn by a seed, and runs the tests that should notice.

Each break is one operator, constant or statement, in a copy of the tree. The tests are the files that import the broken
module, or what imports it; those on a real root only with ``--real``. What slips through is printed with its line: some
of it does not matter (a limit one higher, a message), and what matters gets a test.

    python benchmarks/breaks.py [--seed N] [--count N] [--within machines/linux] [--real]
"""

import argparse
import ast
import os
import random
import re
import shutil
import subprocess
import sys
import tempfile
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import NamedTuple

TOP = Path(__file__).resolve().parent.parent
SOURCE = TOP / "src"
OTHERWISE = {
    "<": "<=",
    "<=": "<",
    ">": ">=",
    ">=": ">",
    "==": "!=",
    "!=": "==",
    "in": "not in",
    "not in": "in",
    "is": "is not",
    "is not": "is",
    "and": "or",
    "or": "and",
}
MOST_FILES = 5
PATIENCE = 240


class Break(NamedTuple):
    """Replace the text of ``file`` from ``start`` to ``end`` (bytes) by ``text``."""

    file: Path
    start: int
    end: int
    text: str

    def shown(self, source: bytes) -> str:
        """Return the place, and what becomes of it."""
        line = source.count(b"\n", 0, self.start) + 1
        was = source[self.start : self.end].decode()
        return f"{self.file.relative_to(SOURCE)}:{line}: {was.strip()!r} -> {self.text.strip()!r}"


def breaks_of(file: Path) -> Iterator[Break]:
    """Yield every break of a module, in the order of the syntax tree."""
    source = file.read_bytes()
    starts = [0, *(found.end() for found in re.finditer(rb"\n", source))]

    def at(line: int, column: int) -> int:
        return starts[line - 1] + column

    def between(one: ast.expr, other: ast.expr, words: str) -> Iterator[Break]:
        first, last = at(one.end_lineno or 0, one.end_col_offset or 0), at(other.lineno, other.col_offset)
        gap = source[first:last].decode()
        found = re.search(rf"(?<!\w){re.escape(words)}(?!\w)" if words[0].isalpha() else re.escape(words), gap)
        if found and "#" not in gap:
            begin = first + len(gap[: found.start()].encode())
            yield Break(file, begin, begin + len(words), OTHERWISE[words])

    for node in ast.walk(ast.parse(source)):
        match node:
            case ast.Compare(left=left, ops=[op], comparators=[right]):
                yield from between(left, right, SIGNS[type(op)])
            case ast.BoolOp(op=op, values=[first, second, *_]):
                yield from between(first, second, "and" if isinstance(op, ast.And) else "or")
            case ast.UnaryOp(op=ast.Not(), operand=operand):
                yield Break(file, at(node.lineno, node.col_offset), at(operand.lineno, operand.col_offset), "")
            case ast.Constant(value=bool() as value):
                yield Break(file, *_span(node, at), str(not value))
            case ast.Constant(value=int() as value) if not isinstance(value, bool) and 0 <= value < 100:
                yield Break(file, *_span(node, at), str(value + 1))
            case ast.Expr(value=ast.Call()) | ast.Continue():
                yield Break(file, *_span(node, at), "pass")


SIGNS: dict[type[ast.cmpop], str] = {
    ast.Lt: "<",
    ast.LtE: "<=",
    ast.Gt: ">",
    ast.GtE: ">=",
    ast.Eq: "==",
    ast.NotEq: "!=",
    ast.In: "in",
    ast.NotIn: "not in",
    ast.Is: "is",
    ast.IsNot: "is not",
}


def _span(node: ast.expr | ast.stmt, at: Callable[[int, int], int]) -> tuple[int, int]:
    return at(node.lineno, node.col_offset), at(node.end_lineno or 0, node.end_col_offset or 0)


def tests_for(module: str, imports: dict[str, str]) -> list[str]:
    """Return the test files that import a module, or else what imports it; those that name it most first."""
    for names in ((module,), tuple(other for other, text in imports.items() if module in text)):
        found = Counter(
            {
                path.name: sum(path.read_text().count(name) for name in names)
                for path in sorted((TOP / "tests").glob("test_*.py"))
            }
        )
        chosen = [name for name, count in found.most_common(MOST_FILES) if count]
        if chosen:
            return chosen
    return ["test_program.py", "test_bench_round.py"]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.partition("\n")[0])
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--count", type=int, default=100)
    parser.add_argument("--within", default="")
    parser.add_argument("--real", action="store_true")
    given = parser.parse_args()
    files = [file for file in sorted(SOURCE.rglob("*.py")) if given.within in str(file)]
    imports = {dotted(file): file.read_text() for file in sorted(SOURCE.rglob("*.py"))}
    everything = [each for file in files for each in breaks_of(file)]
    drawn = random.Random(given.seed).sample(everything, min(given.count, len(everything)))
    results: Counter[str] = Counter()
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder) / "tree"
        shutil.copytree(TOP, copy, symlinks=True, ignore=shutil.ignore_patterns(".venv", ".git", "*cache*", "dist"))
        for each in drawn:
            source = each.file.read_bytes()
            broken = copy / each.file.relative_to(TOP)
            broken.write_bytes(source[: each.start] + each.text.encode() + source[each.end :])
            result = outcome(copy, tests_for(dotted(each.file), imports), real=given.real)
            broken.write_bytes(source)
            results[result] += 1
            if result != "caught":
                print(f"{result}: {each.shown(source)}", flush=True)
    print(f"seed {given.seed}: {len(drawn)} of {len(everything)} breaks; {dict(results)}")


def outcome(copy: Path, tests: list[str], *, real: bool) -> str:
    """Run tests in the copy, and return whether they noticed."""
    command = [
        sys.executable,
        "-m",
        "pytest",
        "-q",
        "-x",
        "-p",
        "no:cacheprovider",
        *(f"tests/{name}" for name in tests),
    ]
    command += [] if real else ["-m", "not real_root"]
    environment = {**os.environ, "PYTHONPATH": str(copy / "src")}
    try:
        code = subprocess.run(command, cwd=copy, env=environment, capture_output=True, timeout=PATIENCE).returncode
    except subprocess.TimeoutExpired:
        return "caught"  # it hangs, which nobody overlooks
    return {0: "slipped", 5: "no test"}.get(code, "caught")


def dotted(file: Path) -> str:
    return ".".join(file.relative_to(SOURCE).with_suffix("").parts).removesuffix(".__init__")


if __name__ == "__main__":
    main()
