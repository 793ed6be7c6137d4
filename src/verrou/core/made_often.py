"""The decorator of classes whose objects are made by the ten thousand: accounts, lines, findings."""

from typing import TYPE_CHECKING

__all__ = ["made_often"]

if TYPE_CHECKING:
    from attrs import frozen as made_often
else:
    from attrs import define

    made_often = define(repr=False, unsafe_hash=True)
    """To the type checker this is ``attrs.frozen``: nobody assigns to a field. At run time nothing guards that, for a
    guarded object takes four times as long to make. No ``repr`` either, so that a program starts sooner."""
