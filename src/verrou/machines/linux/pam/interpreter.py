"""libpam's own algorithm over a stack, in three values, given each module's possible answers.

An unknown module may answer anything; libpam is followed through everything that could then happen, and only what all
of it agrees on is known. The algorithm is that of ``_pam_dispatch`` in libpam, as pam.conf(5) describes it."""

from collections.abc import Callable, Sequence
from typing import NamedTuple

from verrou.core.made_often import made_often
from verrou.core.model.known import Known
from verrou.machines.linux.pam.control import DENIED, IGNORE, NEW_PASSWORD, RESULTS, SUCCESS
from verrou.machines.linux.pam.stack import PamLine

ANY = frozenset(RESULTS)
"""What a module that is not known may answer."""
LETS_IN = (SUCCESS, NEW_PASSWORD)
"""Results that mean yes: a required new password denies no one."""
MOST_STATES = 5000
"""How many different courses are followed; beyond that nothing is known."""


Answers = Callable[[PamLine, bool], frozenset[str]]
"""Possible results of a line's module; the second argument: an earlier line asked for the password."""


@made_often
class Verdict:
    """Result of a stack.

    ``unclear`` are the lines that may answer differently and matter; without them ``decided_by`` is the line that
    turned the result last. ``result`` is that of pam_strerror(3), where there is only one."""

    answer: Known
    unclear: tuple[PamLine, ...] = ()
    result: str = ""
    decided_by: PamLine | None = None


class _State(NamedTuple):
    """State of libpam: line, impression (None, True, False), status, the states saved at substacks, and whether a
    password was asked for."""

    at: int
    impression: bool | None
    status: str
    saved: tuple[tuple[bool | None, str], ...]
    asked: bool


def interpret(chain: Sequence[PamLine], answers: Answers, asks: Callable[[PamLine], bool]) -> Verdict:
    """Return libpam's result over ``chain``; ``asks`` says whether a line's module asks for a password."""
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
    """Return one result of each kind: results with the same action are equal, except three with a meaning of their
    own."""
    telling = {SUCCESS, NEW_PASSWORD, IGNORE}
    others = {line.actions[result]: result for result in sorted(results - telling)}
    return {*(results & telling), *others.values()}


def _entering(chain: Sequence[PamLine], state: _State) -> _State:
    """Return the states saved at the entry of each substack that begins at this line."""
    depth = chain[state.at].depth
    saved = state.saved[: depth + 1]
    while len(saved) <= depth:
        saved = (*saved, (state.impression, state.status))
    return state._replace(saved=saved)


def _after(chain: Sequence[PamLine], state: _State, result: str) -> _State:
    """Return the state after the module at ``state.at`` returned ``result``."""
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
    """Return the first line after the substack, or the stack, of the line."""
    depth = chain[at].depth
    return next((n for n in range(at + 1, len(chain)) if chain[n].depth < depth), len(chain))


def _jumped(chain: Sequence[PamLine], state: _State, count: int) -> _State:
    """Skip so many lines of the same substack, a nested one counting as one; too many end it in an error."""
    at, depth = state.at, chain[state.at].depth
    while count and at + 1 < len(chain) and chain[at + 1].depth >= depth:
        at += 1
        while at + 1 < len(chain) and chain[at + 1].depth > depth:
            at += 1
        count -= 1
    if count:
        return state._replace(at=at + 1, impression=False, status=DENIED)
    return state._replace(at=at + 1)
