"""Reading what a place says that it holds."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from keenharbor.base.errors import DamagedError
from keenharbor.place.carriers import CarrierError
from keenharbor.place.keys import OtherKeyError
from keenharbor.place.line import Line
from keenharbor.place.parcels import LARGEST_SEALED
from keenharbor.place.states import Held, State, read_state, sum_of

_STATE = re.compile(r"(\d{8})-[0-9a-f]{16}")


@dataclass
class Read:
    """What a place holds by its states, what was wrong with them, and the objects among them that are none of ours."""

    held: Held = field(default_factory=Held)
    problems: list[str] = field(default_factory=list)
    strange: list[str] = field(default_factory=list)
    newest: int = 0


def state_names(line: Line, folder: str) -> dict[int, list[str]]:
    """The objects that are named as states, by number."""
    found: dict[int, list[str]] = {}
    for name in line.sizes(f"{folder}/states"):
        said = _STATE.fullmatch(name.rpartition("/")[2])
        if said is not None:
            found.setdefault(int(said[1]), []).append(name)
    return found


def read_states(line: Line, folder: str, secret: str, seed: bytes, known: Held, upto: int | None = None) -> Read:
    """What the place holds, going on from what is ``known`` (nothing: from the newest state that says all); with
    ``upto`` as it was at that state. A gap is told of, and what lies behind it is taken all the same: who reads here
    needs all that there is. Raises `OtherKeyError` where nothing can be opened with this key, `CarrierError`."""
    names = {n: found for n, found in state_names(line, folder).items() if upto is None or n <= upto}
    result = Read(Held(**{f: getattr(known, f) for f in known.__struct_fields__}), newest=max(names, default=0))
    result.held.parcels, result.held.snapshots = dict(known.parcels), dict(known.snapshots)
    if result.newest < known.number:
        told = f"of {known.number}" if result.newest else "and has none"
        result.problems.append(
            f"it is at state {result.newest} {told}: somebody put it back to an earlier day, or took objects away"
        )
        return result
    chain = _chain(line, names, known.number, secret, seed, result)
    for state, digest in chain:
        if not result.held.leads_to(state):
            result.problems.append(f"state {state.number} does not follow what is known of state {result.held.number}")
        result.held.take(state, digest)
    if known.number == result.newest and known.number:
        _check_last(line, names[known.number], known, result)
    return result


def _chain(
    line: Line, names: dict[int, list[str]], after: int, secret: str, seed: bytes, result: Read
) -> list[tuple[State, str]]:
    """The states behind ``after``, oldest first; with 0 from the newest that says all."""
    chain: list[tuple[State, str]] = []
    expected: str | None = None
    other_key: OtherKeyError | None = None
    for number in sorted((n for n in names if n > after), reverse=True):
        found: list[tuple[State, str]] = []
        for name in names[number]:
            try:
                sealed = line.get(name, LARGEST_SEALED)
                state = read_state(sealed, secret, seed)
                if state.number != number or not name.startswith(f"{state.berth}/"):
                    raise DamagedError("it is of another place, or of another time")
                found.append((state, sum_of(sealed)))
            except OtherKeyError as error:
                other_key = error
                result.strange.append(name)
            except (DamagedError, CarrierError) as error:
                if isinstance(error, CarrierError) and error.passing:
                    raise
                result.strange.append(name)
                result.problems.append(f"state {number}: {error.what}")
        fitting = [f for f in found if expected is None or f[1] == expected] or found
        if not fitting:
            if not any(p.startswith(f"state {number}:") for p in result.problems) and chain:
                result.problems.append(f"state {number}: it cannot be opened")
            continue
        chain.append(fitting[0])
        expected = fitting[0][0].before
        if fitting[0][0].whole:
            break
    if not chain and other_key is not None and not after:
        raise other_key
    missing = sorted(set(range(chain[-1][0].number, chain[0][0].number)) - set(names)) if chain else []
    result.problems += [f"state {n}: it is missing" for n in missing]
    return chain[::-1]


def _check_last(line: Line, names: list[str], known: Held, result: Read) -> None:
    """Whether the last state that is known is there as it was sent."""
    for name in names:
        try:
            if sum_of(line.get(name, LARGEST_SEALED)) == known.sum:
                return
        except CarrierError as error:
            if error.passing:
                raise
    result.problems.append(f"state {known.number}: it is not what was sent")
