"""The screen of the list: what is drawn where, and what each key does."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from prompt_toolkit.application import Application
from prompt_toolkit.application.current import get_app
from prompt_toolkit.filters import Condition
from prompt_toolkit.formatted_text import StyleAndTextTuples as Text
from prompt_toolkit.input import create_input
from prompt_toolkit.key_binding import KeyBindings, KeyPressEvent
from prompt_toolkit.layout import ConditionalContainer, Float, FloatContainer, HSplit, Layout, VSplit, Window
from prompt_toolkit.layout.controls import FormattedTextControl
from prompt_toolkit.layout.dimension import Dimension
from prompt_toolkit.mouse_events import MouseEvent, MouseEventType
from prompt_toolkit.output import ColorDepth, create_output
from prompt_toolkit.styles import Style
from prompt_toolkit.widgets import Frame, TextArea

from wexagraph.app.picking import COLUMNS, SORTED, FolderTree, Picker, Row
from wexagraph.app.sets import checked_set_name
from wexagraph.cli.picking.cells import Lines, cell, wrapped
from wexagraph.cli.picking.loading import Loader
from wexagraph.errors import CallError
from wexagraph.text import one_line, size

if TYPE_CHECKING:
    from wexagraph.selection.choice import Choice
    from wexagraph.sources.base import Source

PRINT, KEEP, EXPORT = "print", "keep", "export"
_TREE_WIDTH, _WIDE, _SHOWS_SIZE = 26, 120, 92
_NUMBERS = ("files", "size")
_SETTLE_SECONDS = 0.25
_EXPORT_COMMAND = "wexagraph export"
_EXAMPLES = ("from:ines", "since:2026-03", "is:unseen")
_LIST_KEYS = (
    *("Tab mark", "F2 mark to here", "F3 all shown", "F4 none", "F5 others", "F6 conversation", "F7 sender"),
    *("F8 sort", "F9 folders", "^D ^U read on", "Enter done", "Esc leave"),
)
_TREE_KEYS = ("Up, Down another folder", "Enter back to the list")
_ENDINGS = ("P print the IDs", "S keep as a set", "E make files", "Esc back")
_STYLE = Style.from_dict(
    {
        "title": "bold",
        "heading": "bold underline",
        "cursor": "reverse",
        "marked": "fg:ansimagenta",
        "faint": "fg:ansibrightblack",
        "keys": "reverse",
        "trouble": "fg:ansired",
    }
)


@dataclass(frozen=True)
class Picked:
    """How picking ended: what is to be done with which messages, and the name or the options that were typed for it."""

    what: str
    rows: list[Row]
    text: str = ""


class Screen:
    """A list over a source. `ends_with` names what Enter does at once; "" asks."""

    def __init__(self, source: Source, choice: Choice, name: str, ends_with: str = "") -> None:
        self.picker, self.name, self.ends_with = Picker(), name, ends_with
        self.loading, self.trouble = True, ""
        self.pane_text, self.pane_row, self.pane_top = "", -1, 0
        self.tree_line, self.in_tree, self.show_tree = 0, False, False
        self.ending = False
        self._tree, self._in_tree = FolderTree({}), 0
        self._uncounted: list[Row] = []
        self._loader = Loader(source, choice, self._loaded)
        self._app: Application[Picked | None] = self._application()

    def run(self) -> Picked | None:
        """Show the list until it is ended; None where it was left."""
        try:
            return self._app.run(pre_run=self._loader.start)
        finally:
            self._loader.stop()

    # what comes from the threads

    def _loaded(self, trouble: str) -> None:
        def done() -> None:
            while rows := self._loader.take():
                self.picker.add(rows)
            self.picker.settle()
            self.loading, self.trouble = False, trouble

        self._soon(done)

    def _soon(self, action: Callable[[], None]) -> None:
        """Do something in the thread of the screen, and draw."""
        loop = self._app.loop

        def act() -> None:
            action()
            self._app.invalidate()

        if loop is not None and not loop.is_closed():
            loop.call_soon_threadsafe(act)

    # what is drawn

    def _application(self) -> Application[Picked | None]:
        self.field = TextArea(height=1, multiline=False, prompt="Narrow: ", wrap_lines=False)
        self.field.buffer.on_text_changed += lambda _: self.picker.narrow(self.field.text)
        self.asking = TextArea(height=1, multiline=False, wrap_lines=False)
        self.asked_for = ""
        picker = self.picker
        rows = Lines(self.line, lambda: len(picker.shown), lambda: picker.cursor, self._clicked, picker.move)
        self.rows_window = Window(rows, wrap_lines=False, always_hide_cursor=True)
        folders = Lines(
            self.tree_text,
            lambda: len(self._tree.lines),
            lambda: self.tree_line,
            lambda line, _: self.pick_folder(line),
            self._move_in_tree,
        )
        tree = Window(folders, width=_TREE_WIDTH, wrap_lines=False, always_hide_cursor=True)
        pane = Window(
            FormattedTextControl(self._pane),
            wrap_lines=True,
            height=self._pane_height,
            get_vertical_scroll=self._scroll,
        )
        listed = HSplit([Window(FormattedTextControl(self._heading), height=1), self.rows_window])
        beside = ConditionalContainer(
            VSplit([tree, Window(width=1, char="\N{BOX DRAWINGS LIGHT VERTICAL}", style="class:faint")]),
            Condition(self._shows_tree),
        )
        body = HSplit(
            [
                Window(FormattedTextControl(self._title), height=1),
                self.field,
                VSplit([beside, listed]),
                Window(height=1, char="\N{BOX DRAWINGS LIGHT HORIZONTAL}", style="class:faint"),
                pane,
                Window(FormattedTextControl(self._sums), height=1),
                Window(FormattedTextControl(self._keys), height=self._keys_height, style="class:keys"),
            ]
        )
        box = Frame(self.asking, title=lambda: self.asked_for)
        floating = Float(ConditionalContainer(box, Condition(lambda: bool(self.asked_for))), left=4, right=4)
        layout = Layout(FloatContainer(body, [floating]), focused_element=self.field)
        colourless = ColorDepth.DEPTH_1_BIT if os.environ.get("NO_COLOR") else None
        return Application(
            layout=layout,
            key_bindings=self._bindings(),
            full_screen=True,
            mouse_support=True,
            style=_STYLE,
            color_depth=colourless,
            input=create_input(always_prefer_tty=True),
            output=create_output(always_prefer_tty=True),
            refresh_interval=_SETTLE_SECONDS,
            before_render=lambda _: self._before_drawing(),
            after_render=lambda _: self._after_drawing(),
        )

    def _before_drawing(self) -> None:
        """Bring the list in order while messages come, and have the message under the cursor read."""
        if self.loading and (rows := self._loader.take()):
            self.picker.add(rows)
            self.picker.settle()
        if self._in_tree != len(self.picker.rows):
            self._in_tree, self._tree = len(self.picker.rows), FolderTree(dict(self.picker.folders))
        under = self.picker.under
        if under is not None and under != self.pane_row:
            self.pane_row, self.pane_text, self.pane_top = under, "Reading\N{HORIZONTAL ELLIPSIS}", 0
            self._loader.ask(self.picker.rows[under], lambda text: self._soon(lambda: self._show(under, text)))
        elif under is None:
            self.pane_row, self.pane_text = -1, ""

    def _after_drawing(self) -> None:
        """Have the attachments of the rows that are seen counted."""
        rows, self._uncounted = self._uncounted, []
        self._loader.count(rows, lambda: self._soon(lambda: None))

    def _show(self, number: int, text: str) -> None:
        if number == self.pane_row:
            self.pane_text = text

    def columns(self) -> int:
        """How many columns the list has."""
        width = get_app().output.get_size().columns
        return width - (_TREE_WIDTH + 1 if self._shows_tree() else 0)

    def _shows_tree(self) -> bool:
        return self.show_tree or self.in_tree or get_app().output.get_size().columns >= _WIDE

    def _pane_height(self) -> Dimension:
        rows = get_app().output.get_size().rows
        return Dimension.exact(max(3, (rows - 8 - self._keys_height()) // 2))

    def _keys_height(self) -> int:
        return len(self._key_lines())

    def widths(self) -> dict[str, int]:
        """The width of each column that there is room for."""
        room = self.columns() - 2
        narrow = room < _SHOWS_SIZE
        widths = {"date": 10 if narrow else 16, "from": 17 if narrow else 20 if room < 110 else 26, "files": 5}
        widths |= {"folder": 12 if narrow else 18, "size": 0 if narrow else 9}
        widths["subject"] = max(10, room - sum(widths.values()) - sum(1 for each in widths.values() if each))
        return {name: widths[name] for name in COLUMNS if widths[name]}

    def _title(self) -> Text:
        picker = self.picker
        count = f"{len(picker.shown):,} of {len(picker.rows):,} messages"
        state = ", more are coming" if self.loading else ""
        where = f"  in {one_line(picker.folder)}" if picker.folder else ""
        return [("class:title", f"{one_line(self.name)}{where}: "), ("", count + state)]

    def _heading(self) -> Text:
        arrow = "\N{DOWNWARDS ARROW}" if self.picker.descending else "\N{UPWARDS ARROW}"
        text: Any = [("", "  ")]
        for name, width in self.widths().items():
            label = name.capitalize() + (f" {arrow}" if name == self.picker.sort else "")
            text.append(("class:heading", cell(label, width, name in _NUMBERS), self._sorter(name)))
            text.append(("", " "))
        return list(text)

    def _sorter(self, name: str) -> Callable[[MouseEvent], None]:
        def sort(event: MouseEvent) -> None:
            if event.event_type == MouseEventType.MOUSE_UP and name in SORTED:
                self.picker.sort_by(name)

        return sort

    def line(self, at: int) -> Text:
        """A row of the list."""
        number = self.picker.shown[at]
        row, marked = self.picker.rows[number], number in self.picker.marked
        if row.attached is None:
            self._uncounted.append(row)
        widths = self.widths()
        values = {
            "date": row.day[: widths["date"]],
            "from": row.sender,
            "subject": row.subject or "(no subject)",
            "files": str(row.attached or ""),
            "folder": row.envelope.folder,
            "size": size(row.envelope.size),
        }
        cells = " ".join(cell(values[name], width, name in _NUMBERS) for name, width in widths.items())
        under = at == self.picker.cursor and not self.in_tree
        style = " ".join(["class:cursor"] * under + ["class:marked"] * marked)
        return [(style, f"{'*' if marked else ' '}{'>' if under else ' '}{cells}")]

    def tree_text(self, at: int) -> Text:
        """A line of the tree of folders."""
        name, depth, label, count = self._tree.lines[at]
        under = at == self.tree_line and self.in_tree
        style = "class:cursor" if under else "class:marked" if name == self.picker.folder else ""
        number = f"{count:,}"
        room = _TREE_WIDTH - len(number) - 1
        return [(style, f"{cell(' ' * min(depth * 2, 10) + label, room)} {number}")]

    def _pane(self) -> Text:
        text = wrapped(self.pane_text, get_app().output.get_size().columns)
        subject, line, rest = text.partition("\n")
        return [("class:title", subject), ("", line + rest)]

    def _scroll(self, window: Window) -> int:
        return self.pane_top

    def _sums(self) -> Text:
        picker = self.picker
        if picker.trouble:
            return [("class:trouble", picker.trouble)]
        marks = f"{len(picker.marked):,} marked, {size(picker.bytes_marked)}"
        if self.trouble:
            return [("class:marked", marks), ("class:trouble", f"   {self.trouble}")]
        hint = "" if picker.text or picker.marked else f"   Type to narrow: words, or {', '.join(_EXAMPLES)}"
        return [("class:marked" if picker.marked else "", marks), ("class:faint", hint)]

    def _keys(self) -> Text:
        return [("", "\n".join(self._key_lines()))]

    def _key_lines(self) -> list[str]:
        """What each key does now, in as many lines as it takes."""
        room, lines = get_app().output.get_size().columns - 2, [""]
        for each in self._what_keys_do():
            if len(lines[-1]) + len(each) + 3 > room:
                lines.append("")
            lines[-1] += f" {each}  " if not lines[-1] else f"{each}  "
        return lines

    def _what_keys_do(self) -> tuple[str, ...]:
        if self.asked_for:
            return ("Enter do it", "Esc back")
        if self.ending:
            return (f"{len(self.picker.chosen()):,} chosen:", *_ENDINGS)
        return _TREE_KEYS if self.in_tree else _LIST_KEYS

    # what keys do

    def _bindings(self) -> KeyBindings:
        keys = KeyBindings()
        asking = Condition(lambda: bool(self.asked_for))
        ending = Condition(lambda: self.ending and not self.asked_for)
        in_tree = Condition(lambda: self.in_tree)
        listing = ~asking & ~ending & ~in_tree
        picker = self.picker

        def on(*names: str, when: Any = listing) -> Callable[[Callable[[], None]], None]:
            def bind(action: Callable[[], None]) -> None:
                for name in names:
                    keys.add(name, filter=when, eager=True)(lambda _: action())

            return bind

        def page() -> int:
            info = self.rows_window.render_info
            return max(1, (info.window_height if info is not None else 10) - 1)

        on("down")(lambda: picker.move(1))
        on("up")(lambda: picker.move(-1))
        on("pagedown")(lambda: picker.move(page()))
        on("pageup")(lambda: picker.move(-page()))
        on("c-home")(lambda: picker.move(-len(picker.shown)))
        on("c-end")(lambda: picker.move(len(picker.shown)))
        on("f2")(picker.mark_range)
        on("f3", "c-a")(picker.mark_all)
        on("f4", "c-n")(picker.mark_none)
        on("f5", "c-o")(picker.mark_others)
        on("f6", "c-t")(picker.mark_conversation)
        on("f7", "c-f")(picker.mark_sender)
        on("c-d")(lambda: self._read_on(5))
        on("c-u")(lambda: self._read_on(-5))
        on("tab")(self._mark_and_move)
        on("f8", "c-s")(self._next_column)
        on("f9", "c-l")(self._enter_tree)
        on("enter")(self._end)
        on("escape", "c-c", "f10")(self._leave)
        on("down", when=in_tree)(lambda: self._move_in_tree(1))
        on("up", when=in_tree)(lambda: self._move_in_tree(-1))
        on("enter", "escape", "tab", "f9", "c-l", when=in_tree)(self._leave_tree)
        on("p", "P", when=ending)(lambda: self._finish(PRINT))
        on("s", "S", when=ending)(lambda: self._ask("Name of the set"))
        on("e", "E", when=ending)(lambda: self._ask(_EXPORT_COMMAND, "--into export --as pdf"))
        on("escape", "c-c", when=ending)(self._go_back)
        on("escape", "c-c", when=asking)(self._go_back)
        on("enter", when=asking)(self._answered)

        @keys.add("<any>", filter=ending, eager=True)
        def _(event: KeyPressEvent) -> None:
            """Other letters do nothing while it is asked what is to be done."""

        return keys

    def _read_on(self, step: int) -> None:
        self.pane_top = max(0, min(self.pane_text.count("\n"), self.pane_top + step))

    def _mark_and_move(self) -> None:
        self.picker.toggle()
        self.picker.move(1)

    def _clicked(self, line: int, column: int) -> None:
        """The mouse was pressed on a row; in front of it, that marks."""
        self.picker.cursor = line
        if column < 2:
            self.picker.toggle()

    def _next_column(self) -> None:
        columns = [name for name in self.widths() if name in SORTED]
        at = columns.index(self.picker.sort) if self.picker.sort in columns else -1
        self.picker.sort_by(columns[(at + 1) % len(columns)])

    def _enter_tree(self) -> None:
        self.in_tree = True
        names = [line[0] for line in self._tree.lines]
        self.tree_line = names.index(self.picker.folder) if self.picker.folder in names else 0

    def _move_in_tree(self, step: int) -> None:
        self.pick_folder(self.tree_line + step)

    def pick_folder(self, at: int) -> None:
        """Show the folder of a line of the tree."""
        self.tree_line = max(0, min(len(self._tree.lines) - 1, at))
        self.picker.look_into(self._tree.lines[self.tree_line][0])

    def _leave_tree(self) -> None:
        self.in_tree = False

    def _end(self) -> None:
        if not self.picker.chosen():
            return
        if self.ends_with:
            self._finish(self.ends_with)
        else:
            self.ending = True

    def _leave(self) -> None:
        """First what narrows the list goes, then the list."""
        if self.field.text:
            self.field.text = ""
        elif self.picker.folder:
            self.picker.look_into("")
        else:
            self._app.exit(result=None)

    def _ask(self, what: str, text: str = "") -> None:
        self.asked_for = what
        self.asking.text = text
        self.asking.buffer.cursor_position = len(text)
        self._app.layout.focus(self.asking)

    def _go_back(self) -> None:
        if not self.asked_for:
            self.ending = False
        self.asked_for = ""
        self._app.layout.focus(self.field)

    def _answered(self) -> None:
        text = self.asking.text.strip()
        if not text:
            return
        if self.asked_for == _EXPORT_COMMAND:
            self._finish(EXPORT, text)
            return
        try:
            self._finish(KEEP, checked_set_name(text))
        except CallError as error:
            self.trouble = str(error)

    def _finish(self, what: str, text: str = "") -> None:
        self._app.exit(result=Picked(what, self.picker.chosen(), text))
