"""verrou machine: bench machines."""

from datetime import datetime
from pathlib import Path

import click

from verrou.core.errors import BadInput
from verrou.machines import BENCH_SUFFIX
from verrou.machines.bench.authority import LANGUAGES, Authority


@click.group()
def machine() -> None:
    """Bench machines: simulated workstations, each in one file."""


@machine.command("new")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--edition", type=click.Choice(["full", "basic"]), default="full", show_default=True)
@click.option("--language", type=click.Choice(sorted(LANGUAGES)), default="en", show_default=True)
def new(file: Path, edition: str, language: str) -> None:
    """A fresh bench machine, as it comes out of the box."""
    if not file.name.endswith(BENCH_SUFFIX):
        file = file.with_name(file.name + BENCH_SUFFIX)
    name = file.name.removesuffix(BENCH_SUFFIX)
    if file.exists():
        raise BadInput(f"{file} is there already; choose another name")
    if not file.parent.is_dir():
        raise BadInput(f"{file.parent}: there is no such folder; make it first")
    Authority.fresh(name, datetime.now().replace(microsecond=0), edition, language).save(file)
    click.echo(f"{file}: a fresh bench machine, {edition} edition. Next: verrou survey -m {file}")
