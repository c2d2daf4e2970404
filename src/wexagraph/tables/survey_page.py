"""A survey as one page: plain bars and lines that can be read in print, without colour alone telling anything."""

from __future__ import annotations

import io
from typing import Any

from wexagraph.tables.survey import DAYS, Survey
from wexagraph.text import shortened, size, without_controls

_INK, _BAR, _GAP, _QUIET = "#16222b", "#0b5c8a", "#e8b27a", "#5b6e7a"
_MOST_MONTHS = 240
_ROWS = 8
_MB = 1024 * 1024
_OFFICE = "application/vnd.openxmlformats-officedocument."


def draw(survey: Survey, title: str, form: str) -> bytes:
    """The page as a png, svg or pdf: A4 across. Nothing of it changes from one call to the next."""
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib.figure import Figure

    mpl.rcParams["svg.hashsalt"] = "wexagraph"
    settings: Any = {
        "font.family": ["Liberation Sans", "DejaVu Sans"],
        "font.size": 8,
        "text.parse_math": False,
        "text.color": _INK,
        "axes.edgecolor": _QUIET,
        "axes.labelcolor": _QUIET,
    }
    with mpl.rc_context(settings):
        figure = Figure(figsize=(11.69, 8.27), layout="constrained")
        figure.suptitle(without_controls(shortened(title, 110)), fontsize=13, fontweight="bold", x=0.01, ha="left")
        parts: Any = figure.subfigures(3, 1, height_ratios=[3.2, 2.2, 1.9])
        above, between, below = parts
        grid: dict[str, Any] = dict(zip(("months", "bytes"), above.subplots(2, 1, height_ratios=[2, 1.2]), strict=True))
        grid |= dict(zip(("senders", "domains", "kinds"), between.subplots(1, 3), strict=True))
        grid |= dict(zip(("hours", "days", "folders"), below.subplots(1, 3, width_ratios=[1.6, 1, 1.6]), strict=True))
        _months(grid["months"], grid["bytes"], survey)
        _ranked(grid["senders"], "Who wrote most", survey.senders.most_common(_ROWS), "messages")
        _ranked(grid["domains"], "From which domains", survey.domains.most_common(_ROWS), "messages")
        kinds = [(name.removeprefix(_OFFICE), tally.count) for name, tally in survey.kinds()[:_ROWS]]
        _ranked(grid["kinds"], "Kinds of attachments", kinds, "attachments")
        folders = sorted(survey.folders.items(), key=lambda item: -item[1].count)[:_ROWS]
        _ranked(grid["folders"], "Folders", [(name, tally.count) for name, tally in folders], "messages")
        _columns(grid["hours"], "Hours of the day", [str(hour) for hour in range(24)], survey.hours, 3)
        _columns(grid["days"], "Weekdays", list(DAYS), survey.days, 1)
        out = io.BytesIO()
        metadata = {"svg": {"Date": None}, "pdf": {"CreationDate": None}}.get(form)
        figure.savefig(out, format=form, dpi=130, metadata=metadata)
    return out.getvalue()


def described(survey: Survey, title: str) -> str:
    """What the page shows, in words."""
    lists = {
        "By month": [(month, tally.count) for month, tally in list(survey.months.items())[-_MOST_MONTHS:]],
        "Who wrote most": survey.senders.most_common(_ROWS),
        "From which domains": survey.domains.most_common(_ROWS),
        "Kinds of attachments": [(name.removeprefix(_OFFICE), t.count) for name, t in survey.kinds()[:_ROWS]],
        "Weekdays": list(zip(DAYS, survey.days, strict=True)),
        "Folders": [
            (name, t.count) for name, t in sorted(survey.folders.items(), key=lambda item: -item[1].count)[:_ROWS]
        ],
    }
    sentences = [
        f"{head}: {', '.join(f'{name} {count:,}' for name, count in rows)}." for head, rows in lists.items() if rows
    ]
    total = f"{survey.messages.count:,} messages, {size(survey.messages.bytes)}."
    return without_controls(" ".join([f"{title}.", total, *sentences]))


def _months(count: Any, weight: Any, survey: Survey) -> None:
    """Messages and bytes by month; months without mail are marked as gaps."""
    names = list(survey.months)[-_MOST_MONTHS:]
    tallies = [survey.months[name] for name in names]
    places = range(len(names))
    for axes, values, unit in (
        (count, [tally.count for tally in tallies], "messages a month"),
        (weight, [tally.bytes / _MB for tally in tallies], "MB a month"),
    ):
        axes.bar(places, values, width=0.8, color=_BAR)
        for place, tally in zip(places, tallies, strict=True):
            if not tally.count:
                axes.axvspan(place - 0.5, place + 0.5, color=_GAP, hatch="///", alpha=0.5, linewidth=0)
        axes.set_ylabel(unit)
        step = max(1, len(names) // 16)
        axes.set_xticks(list(places)[::step], names[::step])
        axes.set_xlim(-0.7, max(len(names), 1) - 0.3)
        _plain(axes)
    dated = survey.messages.count - survey.undated
    span = f", {names[0]} to {names[-1]}" if names else ""
    empty = sum(not tally.count for tally in tallies)
    summary = f"{dated:,} messages, {size(survey.messages.bytes)}{span}"
    summary += f"; {empty} month{'s' * (empty != 1)} without mail (hatched)" if empty else ""
    summary += f"; {survey.undated:,} without a date" if survey.undated else ""
    count.set_title(summary, loc="left", fontsize=9)


def _ranked(axes: Any, title: str, rows: list[tuple[str, int]], unit: str) -> None:
    names = [without_controls(shortened(name, 30)) for name, _ in rows][::-1]
    values = [value for _, value in rows][::-1]
    bars = axes.barh(range(len(names)), values, color=_BAR, height=0.7)
    axes.set_yticks(range(len(names)), names)
    axes.bar_label(bars, [f"{value:,}" for value in values], padding=2, fontsize=7)
    axes.set_xlabel(unit)
    axes.margins(x=0.15)
    axes.set_title(title, loc="left", fontsize=9, fontweight="bold")
    if not rows:
        axes.text(0.5, 0.5, "none", ha="center", va="center", transform=axes.transAxes, color=_QUIET)
        axes.set_xticks([])
    _plain(axes)


def _columns(axes: Any, title: str, names: list[str], values: list[int], step: int) -> None:
    axes.bar(range(len(names)), values, color=_BAR, width=0.8)
    axes.set_xticks(list(range(len(names)))[::step], names[::step])
    axes.set_ylabel("messages")
    axes.set_title(title, loc="left", fontsize=9, fontweight="bold")
    _plain(axes)


def _plain(axes: Any) -> None:
    axes.spines[["top", "right"]].set_visible(False)
    axes.tick_params(colors=_QUIET, length=2, labelsize=7)
