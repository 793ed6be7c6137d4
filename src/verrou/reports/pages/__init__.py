"""Pages made from templates: everything from a machine is escaped and without control characters."""

# Imports within functions: only a page needs them.

from functools import cache
from importlib.resources import files
from typing import TYPE_CHECKING, Any

from verrou.reports.tables import shown

if TYPE_CHECKING:
    from jinja2 import Environment


def page(name: str, **facts: Any) -> str:
    """Return the page made from the template ``name`` of this folder."""
    html = name.endswith(".html")
    facts |= {"css": _trusted(_template("common.css"))} if html else {}
    return _environment(html).get_template(name).render(facts)


def trusted(markup: str) -> Any:
    """Mark markup that we made ourselves as safe for a template."""
    return _trusted(markup)


def _trusted(markup: str) -> Any:
    from markupsafe import Markup

    return Markup(markup)


@cache
def _environment(html: bool) -> "Environment":
    from jinja2 import Environment, FunctionLoader, StrictUndefined
    from markupsafe import Markup

    def plain(value: object) -> object:
        if isinstance(value, Markup):
            return value
        text = shown(value)
        return text if html else _plain_markdown(text)

    return Environment(
        loader=FunctionLoader(_template),
        autoescape=html,
        finalize=plain,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=not html,
    )


def _template(name: str) -> str:
    return files(__package__).joinpath(name).read_text(encoding="utf-8")


MARKDOWN_SIGNS = str.maketrans({sign: f"\\{sign}" for sign in "\\`*_[]<>|#"})
"""What would mean something in Markdown (CommonMark, 2.4: any sign of ASCII may be escaped)."""


def _plain_markdown(text: str) -> str:
    return text.translate(MARKDOWN_SIGNS)
