"""Sets: messages that a person has marked in a list, kept under a name."""

from __future__ import annotations

import json
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass
from datetime import date
from difflib import get_close_matches
from pathlib import Path
from typing import Any

from wexagraph.app.orders.running import state_folder
from wexagraph.errors import CallError, TargetError
from wexagraph.output.replacing import write_whole_file
from wexagraph.records.order import checked_name


@dataclass(frozen=True)
class KeptSet:
    """A set: its name, the source that its messages were marked in, their IDs, and the day it was kept."""

    name: str
    source: str
    ids: tuple[str, ...]
    kept: date


def sets_file() -> Path:
    """Where the sets of the user lie."""
    return state_folder() / "sets.json"


def all_sets() -> dict[str, KeptSet]:
    """All sets by name. Raises TargetError where their file can't be read."""
    path = sets_file()
    try:
        plain: dict[str, Any] = json.loads(path.read_text("utf-8"))["sets"]
        return {
            name: KeptSet(name, each["source"], tuple(each["ids"]), date.fromisoformat(each["kept"]))
            for name, each in sorted(plain.items())
        }
    except FileNotFoundError:
        return {}
    except (OSError, ValueError, KeyError, TypeError, AttributeError) as error:
        raise TargetError(f"{path} can't be read ({error}). Move it away; the sets in it are kept there.") from error


def keep_set(name: str, source: str, ids: Iterable[str], today: date) -> KeptSet:
    """Keep messages as a set; one of that name is replaced. Raises CallError, TargetError."""
    new = KeptSet(checked_set_name(name), source, tuple(dict.fromkeys(ids)), today)
    _write(all_sets() | {name: new})
    return new


def remove_set(name: str) -> None:
    """Forget a set. Raises CallError where there is none of that name, TargetError."""
    kept = all_sets()
    _named(kept, name)
    _write({other: one for other, one in kept.items() if other != name})


def ids_of_sets(names: Iterable[str]) -> frozenset[str]:
    """The IDs of all messages of these sets. Raises CallError where there is none of a name, TargetError."""
    kept = all_sets()
    return frozenset(id for name in names for id in _named(kept, name).ids)


def checked_set_name(name: str) -> str:
    """The name of a set. Raises CallError for one that can't be."""
    with suppress(CallError):
        return checked_name(name)
    raise CallError(f"{name!r} can't be the name of a set: letters, digits, and . _ - only, at most 60.")


def _named(kept: dict[str, KeptSet], name: str) -> KeptSet:
    if name not in kept:
        near = get_close_matches(name, kept, n=1)
        hint = f" Did you mean {near[0]}?" if near else " `wexagraph sets` lists them."
        raise CallError(f"there is no set {name!r}.{hint}")
    return kept[name]


def _write(kept: dict[str, KeptSet]) -> None:
    plain = {name: {"source": one.source, "kept": one.kept.isoformat(), "ids": one.ids} for name, one in kept.items()}
    text = json.dumps({"version": 1, "sets": plain}, ensure_ascii=False, indent=1) + "\n"
    write_whole_file(sets_file(), text.encode("utf-8", "surrogateescape"))
