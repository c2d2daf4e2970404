"""Charts of a workbook, drawn anew from the data they refer to (ECMA-376 part 1, section 21.2)."""

from __future__ import annotations

import io
from typing import Any

from wexagraph.pages.fonts import FOLDER

_COLOURS = ["#0b5c8a", "#c2832a", "#3d7a5a", "#8a1f1f", "#5b4a7a", "#6d7d87", "#b05a8a", "#a39a2a"]
MOST_CHARTS, _MOST_POINTS = 60, 5000


def chart_title(chart: Any, book: Any) -> str:
    """A chart's title as text; "" where it has none."""
    title = getattr(chart, "title", None)
    rich = getattr(getattr(title, "tx", None), "rich", None)
    if rich is not None:
        return " ".join("".join(run.t or "" for run in (p.r or [])) for p in rich.p or []).strip()
    reference = getattr(getattr(title, "tx", None), "strRef", None)
    return " ".join(map(str, _values(reference, book))) if reference is not None else ""


def draw(chart: Any, book: Any) -> bytes:
    """The chart as SVG whose words are text. Raises ValueError for a kind that is not drawn."""
    import matplotlib

    matplotlib.use("svg")
    from matplotlib import font_manager
    from matplotlib.figure import Figure

    for face in ("LiberationSans-Regular.ttf", "LiberationSans-Bold.ttf"):
        font_manager.fontManager.addfont(str(FOLDER / face))
    settings: Any = {
        "svg.fonttype": "none",
        "svg.hashsalt": "wexagraph",
        "font.family": "Liberation Sans",
        "font.size": 9,
    }
    with matplotlib.rc_context(settings):
        figure = Figure(figsize=(6.4, 3.7), layout="constrained")
        axes = figure.add_subplot()
        _plot(chart, book, axes)
        title = chart_title(chart, book)
        if title:
            axes.set_title(title, fontsize=11, fontweight="bold", color="#0d3b52")
        out = io.BytesIO()
        figure.savefig(out, format="svg", metadata={"Date": None, "Creator": None})
    return out.getvalue()


def _plot(chart: Any, book: Any, axes: Any) -> None:
    kind = type(chart).__name__.removesuffix("3D")
    series = [(_name(s, number, book), *_data(s, book)) for number, s in enumerate(chart.series, 1)]
    if not series or kind not in ("BarChart", "LineChart", "PieChart", "DoughnutChart", "ScatterChart", "AreaChart"):
        raise ValueError(f"a {kind} without data, or of a kind that is not drawn")
    labels = next((xs for _, xs, _ in series if xs), None) or list(range(1, len(series[0][2]) + 1))
    if kind in ("PieChart", "DoughnutChart"):
        _pie(series[0][2], labels, axes, kind == "DoughnutChart")
        return
    if kind == "ScatterChart":
        for number, (name, xs, ys) in enumerate(series):
            points = [
                (x, y) for x, y in zip(xs or range(1, len(ys) + 1), ys, strict=False) if _is_number(x) and _is_number(y)
            ]
            axes.plot([x for x, _ in points], [y for _, y in points], "o", label=name, color=_COLOURS[number % 8])
    elif kind == "BarChart":
        _bars(chart, series, labels, axes)
    else:
        _lines(kind, chart, series, labels, axes)
    axes.spines[["top", "right"]].set_visible(False)
    axes.grid(alpha=0.25)
    axes.legend(fontsize=8, frameon=False)


def _bars(chart: Any, series: list[Any], labels: list[Any], axes: Any) -> None:
    across = getattr(chart, "barDir", getattr(chart, "type", "col")) == "bar"
    stacked = getattr(chart, "grouping", "") in ("stacked", "percentStacked")
    width = 0.8 if stacked else 0.8 / len(series)
    base = [0.0] * len(labels)
    for number, (name, _, ys) in enumerate(series):
        values = [float(y) if _is_number(y) else 0.0 for y in ys][: len(labels)]
        values += [0.0] * (len(labels) - len(values))
        places = [n if stacked else n - 0.4 + width * (number + 0.5) for n in range(len(labels))]
        bars = axes.barh if across else axes.bar
        start = {"left" if across else "bottom": list(base)} if stacked else {}
        bars(places, values, width, label=name, color=_COLOURS[number % 8], **start)
        base = [b + v for b, v in zip(base, values, strict=True)]
    ticks = axes.set_yticks if across else axes.set_xticks
    ticks(range(len(labels)), [str(label)[:24] for label in labels])


def _lines(kind: str, chart: Any, series: list[Any], labels: list[Any], axes: Any) -> None:
    base = [0.0] * len(labels)
    stacked = getattr(chart, "grouping", "") in ("stacked", "percentStacked")
    for number, (name, _, ys) in enumerate(series):
        values = [float(y) if _is_number(y) else float("nan") for y in ys][: len(labels)]
        values += [float("nan")] * (len(labels) - len(values))
        colour = _COLOURS[number % 8]
        if kind == "AreaChart":
            top = [b + (v if v == v else 0) for b, v in zip(base, values, strict=True)]
            axes.fill_between(range(len(labels)), base, top, alpha=0.55, label=name, color=colour)
            base = top if stacked else base
        else:
            axes.plot(range(len(labels)), values, marker="o", markersize=3, label=name, color=colour)
    axes.set_xticks(range(len(labels)), [str(label)[:24] for label in labels])
    if len(labels) > 12:
        axes.set_xticks(range(0, len(labels), len(labels) // 10), [str(x)[:24] for x in labels[:: len(labels) // 10]])


def _pie(ys: list[Any], labels: list[Any], axes: Any, hollow: bool) -> None:
    slices = [(abs(float(y)), str(label)[:30]) for y, label in zip(ys, labels, strict=False) if _is_number(y) and y]
    if not slices:
        raise ValueError("a pie without values")
    axes.pie(
        [size for size, _ in slices],
        labels=[f"{label} ({size:g})" for size, label in slices],
        colors=_COLOURS,
        wedgeprops={"width": 0.45} if hollow else None,
    )


def _name(series: Any, number: int, book: Any) -> str:
    title = series.tx
    if title is not None and title.strRef is not None:
        return " ".join(map(str, _values(title.strRef, book))) or f"Series {number}"
    return str(title.v) if title is not None and title.v is not None else f"Series {number}"


def _data(series: Any, book: Any) -> tuple[list[Any], list[Any]]:
    if getattr(series, "yVal", None) is not None:
        return _of(series.xVal, book), _of(series.yVal, book)
    return _of(series.cat, book), _of(series.val, book)


def _of(source: Any, book: Any) -> list[Any]:
    for name in ("numRef", "strRef"):
        reference = getattr(source, name, None)
        if reference is not None:
            return _values(reference, book)
    literal = getattr(source, "numLit", None) or getattr(source, "strLit", None)
    return [point.v for point in literal.pt] if literal is not None else []


def _values(reference: Any, book: Any) -> list[Any]:
    """The values a reference names; from its cache where the cells are not there."""
    from openpyxl.utils.cell import range_boundaries

    sheet, mark, cells = (reference.f or "").rpartition("!")
    sheet = sheet.strip("'").replace("''", "'")
    if mark and sheet in book.sheetnames:
        left, top, right, bottom = range_boundaries(cells.replace("$", ""))
        if (right - left + 1) * (bottom - top + 1) <= _MOST_POINTS:
            values = [cell.value for row in book[sheet].iter_rows(top, bottom, left, right) for cell in row]
            if any(value is not None for value in values):
                return values
    cache = getattr(reference, "numCache", None) or getattr(reference, "strCache", None)
    return [point.v for point in cache.pt] if cache is not None else []


def _is_number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)
