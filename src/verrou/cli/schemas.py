"""verrou schema: the schemas of outputs and of the baseline file, for programs that read or write them."""

import click

from verrou.core.errors import BadInput
from verrou.core.values import nearest
from verrou.reports.schemas import OUTPUTS
from verrou.reports.schemas import schema as schema_called
from verrou.reports.tables import as_json


@click.command()
@click.argument("words", metavar="[COMMAND]", nargs=-1)
def schema(words: tuple[str, ...]) -> None:
    """Print the JSON Schema of a command's output or of a baseline file; without a name, list them."""
    name = " ".join(words)
    if not words:
        click.echo("\n".join(f"verrou schema {each}" for each in OUTPUTS))
        return
    if name not in OUTPUTS:
        close = nearest(name, list(OUTPUTS))
        hint = f"Did you mean {close}?" if close else "To list them: verrou schema"
        raise BadInput(f"no schema {name!r}. {hint}")
    click.echo(as_json(schema_called(name)), nl=False)
