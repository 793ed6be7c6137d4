"""What libpam comes to over a stack, in three values: its own algorithm, over what each module answers.

A module that is not known may answer anything; libpam is followed through all that could then happen, and only what all
of it agrees in is told. The algorithm is that of ``_pam_dispatch`` in libpam, as pam.conf(5) describes it.
"""

from collections.abc import Callable, Sequence
from typing import NamedTuple

from attrs import frozen

from verrou.core.model.known import Known
from verrou.machines.linux.pam.control import DENIED, IGNORE, NEW_PASSWORD, RESULTS, SUCCESS
from verrou.machines.linux.pam.stack import PamLine

ANY = frozenset(RESULTS)
"""What a module that is not known may answer."""
LETS_IN = (SUCCESS, NEW_PASSWORD)
"""The results that mean yes: a new password that is asked for first bars nobody."""
MOST_STATES = 5000
"""How many different courses are followed; beyond that nothing is known."""


Answers = Callable[[PamLine, bool], frozenset[str]]
"""What a line's module may return; the second argument tells whether an earlier line asked for the password."""


@frozen
class Verdict:
    """What comes out for somebody. ``unclear`` are the lines that may answer one thing or another and have a say;
    without any ``decided_by`` is the line that turned the course last. ``result`` is that of pam_strerror(3), where
    there is but one."""

    answer: Known
    unclear: tuple[PamLine, ...] = ()
    result: str = ""
    decided_by: PamLine | None = None


class _State(NamedTuple):
    """Where libpam stands: at which line, with which impression (None, True, False) and status, what it had at the
    entry of each substack, and whether a password was asked for."""

    at: int
    impression: bool | None
    status: str
    saved: tuple[tuple[bool | None, str], ...]
    asked: bool


def interpret(chain: Sequence[PamLine], answers: Answers, asks: Callable[[PamLine], bool]) -> Verdict:
    """What libpam comes to over ``chain``; ``asks`` tells whether a line's module asks for a password."""
    if not chain:
        return Verdict(Known.NO, result=DENIED)
    start = _State(0, None, DENIED, ((None, DENIED),), False)
    todo, seen, ended = [start], {start}, set()
    unclear: dict[PamLine, None] = {}
    decided_by = None
    while todo:
        state = todo.pop()
        if state.at >= len(chain):
            ended.add(DENIED if state.status == SUCCESS and state.impression is not True else state.status)
            continue
        line = chain[state.at]
        state = _entering(chain, state)
        asked = state.asked or (not line.enters and not line.fault and asks(line))
        if line.enters:
            following = {state._replace(at=state.at + 1)}
        else:
            results = frozenset((DENIED,)) if line.fault else answers(line, state.asked)
            following = {_after(chain, state._replace(asked=asked), result) for result in _distinct(line, results)}
        if len(following) > 1:
            unclear[line] = None
        elif any((each.impression, each.status) != (state.impression, state.status) for each in following):
            decided_by = line
        todo += following - seen
        seen |= following
        if len(seen) > MOST_STATES:
            return Verdict(Known.UNKNOWN, unclear=tuple(unclear))
    yes = {result in LETS_IN for result in ended}
    if len(yes) > 1:
        return Verdict(Known.UNKNOWN, unclear=tuple(unclear))
    result = next(iter(ended)) if len(ended) == 1 else ""
    return Verdict(Known.of(yes.pop()), tuple(unclear), result, None if unclear else decided_by)


def _distinct(line: PamLine, results: frozenset[str]) -> set[str]:
    """One result of each kind: those that a line treats alike come to the same, but for the three that mean something
    beside the action."""
    telling = {SUCCESS, NEW_PASSWORD, IGNORE}
    others = {line.actions[result]: result for result in sorted(results - telling)}
    return {*(results & telling), *others.values()}


def _entering(chain: Sequence[PamLine], state: _State) -> _State:
    """What is kept at the entry of each substack that begins at this line."""
    depth = chain[state.at].depth
    saved = state.saved[: depth + 1]
    while len(saved) <= depth:
        saved = (*saved, (state.impression, state.status))
    return state._replace(saved=saved)


def _after(chain: Sequence[PamLine], state: _State, result: str) -> _State:
    """Where libpam stands after the module of the line at ``state.at`` returned ``result``."""
    line = chain[state.at]
    action, impression, status = line.actions[result], state.impression, state.status
    if action.isdigit():
        return _jumped(chain, state, int(action))
    if action == "reset":
        impression, status = state.saved[line.depth]
    elif action in ("ok", "done"):
        if impression is None or (impression is True and status == SUCCESS):
            impression, status = True, result
    elif action in ("bad", "die") and impression is not False:
        impression, status = False, DENIED if result == IGNORE else result
    ends = action == "die" or (action == "done" and impression is True)
    after = _end_of_substack(chain, state.at) if ends else state.at + 1
    return state._replace(at=after, impression=impression, status=status)


def _end_of_substack(chain: Sequence[PamLine], at: int) -> int:
    """The first line after the substack, or the stack, that the line stands in."""
    depth = chain[at].depth
    return next((n for n in range(at + 1, len(chain)) if chain[n].depth < depth), len(chain))


def _jumped(chain: Sequence[PamLine], state: _State, count: int) -> _State:
    """Over so many lines of the same substack, one that lies within counting as one; too many end it badly."""
    at, depth = state.at, chain[state.at].depth
    while count and at + 1 < len(chain) and chain[at + 1].depth >= depth:
        at += 1
        while at + 1 < len(chain) and chain[at + 1].depth > depth:
            at += 1
        count -= 1
    if count:
        return state._replace(at=at + 1, impression=False, status=DENIED)
    return state._replace(at=at + 1)
