"""The form of a style: what colours stand for, labels, sizes. Shows one, and says every change as a new one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import pyarrow as pa
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QSpinBox,
    QToolButton,
    QWidget,
)

from eskret.core.style.legend import Legend, colours_for, numbers_of
from eskret.core.style.style import CLASSES, FEWEST, METHODS, MOST, ONE, VALUES, Style, style_of
from eskret.desktop.style_panel.histogram import Histogram
from eskret.desktop.style_panel.swatches import STRIP, ColourButton, ramp_icon, ramp_titles
from eskret.desktop.views.parts import done_typing, show_text
from eskret.errors import SettingError

_BY = {ONE: "One for all", VALUES: "By value", CLASSES: "In classes"}


class StyleForm(QWidget):
    """Setters in, ``changed`` out."""

    changed = Signal(object, str)  # Style; what was done

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._style = Style()
        self._table = pa.table({})
        self._filling = False
        self.by = _box("What colours stand for", _BY.items())
        self.colour = ColourButton("Colour")
        self.field = _box("Field")
        self.method = _box("How classes are made", METHODS.items())
        self.count = _spin("Classes", FEWEST, MOST)
        self.breaks = QLineEdit()
        self.breaks.setAccessibleName("Breaks")
        self.breaks.setPlaceholderText("10, 20, 50")
        self.ramp = _box("Ramp")
        self.ramp.setIconSize(STRIP)
        self.turned = QCheckBox("From the other end")
        self.histogram = Histogram()
        self.values = QListWidget()
        self.values.setAccessibleName("Values and their colours")
        self.renew = QToolButton()
        self.renew.setObjectName("quiet")
        self.renew.setText("Give the other values colours")
        self.renew.setToolTip("Values that have no colour yet get one, the most frequent first")
        self.label = _box("Labels")
        self.points, self.width_ = _spin("Size", 0, 60), _spin("Line width", 0, 20)
        for spin in (self.points, self.width_):
            spin.setSpecialValueText("as usual")
            spin.setSuffix(" px")
        self.opacity = _spin("Opacity", 0, 100)
        self.opacity.setSuffix(" %")
        self.note = QLabel()
        self.note.setObjectName("faint")
        self.note.setWordWrap(True)
        self.room = QLabel()
        self.room.setObjectName("faint")
        self.room.setWordWrap(True)
        self.wrong = QLabel()
        self.wrong.setObjectName("wrong")
        self.wrong.setWordWrap(True)
        self._rows: dict[str, tuple[QWidget, QLabel | None]] = {}
        self._layout = QFormLayout(self)
        self._layout.setContentsMargins(0, 0, 0, 0)
        self._layout.setVerticalSpacing(6)
        self._layout.setHorizontalSpacing(10)
        self._layout.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
        self._layout.setLabelAlignment(Qt.AlignmentFlag.AlignLeft)
        for name, text, widget in (
            ("by", "Colours", self.by),
            ("colour", "Colour", self.colour),
            ("field", "Field", self.field),
            ("method", "Classes", self.method),
            ("count", "How many", self.count),
            ("breaks", "Breaks", self.breaks),
            ("ramp", "Ramp", self.ramp),
            ("turned", "", self.turned),
            ("histogram", None, self.histogram),
            ("values", None, self.values),
            ("renew", None, self.renew),
            ("note", None, self.note),
            ("wrong", None, self.wrong),
            ("label", "Labels", self.label),
            ("room", None, self.room),
            ("size", "Points", self.points),
            ("width", "Lines", self.width_),
            ("opacity", "Opacity", self.opacity),
        ):
            self._row(name, text, widget)
        self.show_room(0, 0)
        self.by.activated.connect(lambda _: self._by_chosen())
        self.colour.chosen.connect(lambda c: self._say("colour a layer", colour=c))
        self.field.activated.connect(lambda _: self._field_chosen(self.field.currentData()))
        self.method.activated.connect(lambda _: self._method_chosen(self.method.currentData()))
        self.count.valueChanged.connect(lambda n: self._say("change classes", count=n))
        done_typing(self.breaks, self._breaks_typed)
        self.histogram.breaks_dragged.connect(self._own_breaks)
        self.ramp.activated.connect(lambda _: self._say("change colours", ramp=self.ramp.currentData()))
        self.turned.toggled.connect(lambda on: self._say("turn colours", turned=on))
        self.renew.clicked.connect(self._renew)
        self.label.activated.connect(lambda _: self._say("label features", label=self.label.currentData()))
        self.points.valueChanged.connect(lambda n: self._say("size points", size=float(n)))
        self.width_.valueChanged.connect(lambda n: self._say("change lines", width=float(n)))
        self.opacity.valueChanged.connect(lambda n: self._say("change opacity", opacity=n))

    def _row(self, name: str, text: str | None, widget: QWidget) -> None:
        label = None
        if text is None:
            self._layout.addRow(widget)
        else:
            label = QLabel(text)
            label.setObjectName("faint")
            self._layout.addRow(label, widget)
        self._rows[name] = widget, label

    # -- showing

    def show_style(self, style: Style, table: pa.Table, kind: str, legend: Legend, breaks: Sequence[float] | None, usual: str) -> None:
        """Show a style as it is for a layer.

        Parameters
        ----------
        table, kind : the layer's attributes, and what it draws.
        legend, breaks : the groups that the style makes of it; None while breaks are being found.
        usual : the colour it has without one of its own.
        """
        self._filling = True
        if (style.field, table.column_names) != (self._style.field, self._table.column_names):
            self.breaks.setModified(False)  # what was typed was of other values
        self._style, self._table = style, table
        _choose(self.by, style.by)
        names = table.column_names
        numbers = [f.name for f in table.schema if numbers_of(pa.chunked_array([], f.type)) is not None]
        offered = numbers if style.by == CLASSES else names
        _fill(self.field, [(n, n) for n in offered], style.field, lacking=bool(style.field))
        _choose(self.method, style.method)
        self.count.setValue(style.count)
        shown = style.breaks if style.method == "own" else breaks or ()
        show_text(self.breaks, ", ".join(f"{b:.10g}" for b in shown))
        self._fill_ramps(style)
        self.turned.setChecked(style.turned)
        _fill(self.label, [("", "None"), *((n, n) for n in names)], style.label, lacking=bool(style.label))
        self.colour.show_colour(style.colour, usual)
        self.points.setValue(round(style.size))
        self.width_.setValue(round(style.width))
        self.opacity.setValue(style.opacity)
        self.wrong.setText("")
        held = style.field in names
        if style.by == CLASSES and held and breaks is not None:
            values = numbers_of(table.column(style.field))
            if values is not None:
                self.histogram.show_values(values, breaks, style.ramp, style.turned)
        if style.by == VALUES:
            self._fill_values(legend)
        self._say_note(style, held, breaks)
        self._show_rows(style, kind, held, legend)
        self._filling = False

    def _fill_ramps(self, style: Style) -> None:
        self.ramp.clear()
        for name, title in ramp_titles():
            self.ramp.addItem(ramp_icon(name, style.turned), title, name)
        _choose(self.ramp, style.ramp)

    def _fill_values(self, legend: Legend) -> None:
        self.values.clear()
        for entry in legend.entries:
            item = QListWidgetItem()
            self.values.addItem(item)
            line = _ValueLine(entry.text, entry.count, entry.colour, not entry.rest)
            line.button.chosen.connect(lambda c, v=entry.value: self._recolour(v, c))
            item.setSizeHint(line.sizeHint())
            self.values.setItemWidget(item, line)
        self.values.setFixedHeight(min(9, max(2, len(legend.entries))) * 26 + 8)

    def _say_note(self, style: Style, held: bool, breaks: Sequence[float] | None) -> None:
        said = []
        if style.by != ONE and style.field and not held:
            said.append(f"The layer has no field '{style.field}' here and is drawn in one colour.")
        elif style.by == CLASSES and breaks is None:
            said.append("Finding classes …")
        elif style.by == CLASSES and style.method != "own" and breaks is not None and len(breaks) + 1 < style.count:
            said.append(f"The values give {len(breaks) + 1} classes, not {style.count}.")
        self.note.setText(" ".join(said))

    def show_room(self, placed: int, asked: int) -> None:
        """Say how many labels had room, of how many features in view."""
        short = placed < asked
        self.room.setText(f"{placed:,} of {asked:,} labels in view have room. Come closer for more." if short else "")
        self._layout.setRowVisible(self.room, short)

    def _show_rows(self, style: Style, kind: str, held: bool, legend: Legend) -> None:
        classes, values = style.by == CLASSES, style.by == VALUES
        rest = any(e.rest and e.count and e.text != "empty" for e in legend.entries)
        for name, on in {
            "colour": style.by == ONE,
            "field": classes or values,
            "method": classes,
            "count": classes and style.method != "own",
            "breaks": classes,
            "ramp": classes,
            "turned": classes,
            "histogram": classes and held,
            "values": values and bool(legend),
            "renew": values and rest,
            "note": bool(self.note.text()),
            "wrong": bool(self.wrong.text()),
            "size": kind in ("point", "mixed"),
        }.items():
            self._layout.setRowVisible(self._rows[name][0], on)

    # -- changes

    def _say(self, what: str, **changes: Any) -> None:
        if self._filling:
            return
        new = replace(self._style, **changes)
        if new != self._style:
            self.changed.emit(new, what)

    def _by_chosen(self) -> None:
        by = self.by.currentData()
        if by == ONE:
            self._say("colour a layer", by=ONE)
            return
        names = [f.name for f in self._table.schema if by == VALUES or numbers_of(pa.chunked_array([], f.type)) is not None]
        if not names:
            self.wrong.setText("No field of this layer holds numbers, so there is nothing to make classes of.")
            self._layout.setRowVisible(self.wrong, True)
            _choose(self.by, self._style.by)
            return
        field = self._style.field if self._style.field in names else names[0]
        self._say("colour a layer", by=by, **self._with_field(by, field))

    def _field_chosen(self, field: str) -> None:
        self._say("colour a layer", **self._with_field(self._style.by, field))

    def _with_field(self, by: str, field: str) -> Mapping[str, object]:
        out: dict[str, object] = {"field": field}
        if by == VALUES and (field != self._style.field or not self._style.colours):
            out["colours"] = colours_for(self._table.column(field))
        return out

    def _method_chosen(self, method: str) -> None:
        if method == "own":
            self._breaks_typed()
        else:
            self._say("change classes", method=method, breaks=())

    def _breaks_typed(self) -> None:
        if self._filling:
            return
        try:
            given = [float(part) for part in self.breaks.text().replace(";", ",").split(",") if part.strip()]
        except ValueError:
            self.wrong.setText("Breaks are numbers with commas between them, such as 10, 20, 50.")
            self._layout.setRowVisible(self.wrong, True)
            return
        shown = [float(b) for b in self.breaks_shown()]
        if self._style.method == "own" or given != shown or self.method.currentData() == "own":
            self._own_breaks([int(b) if b.is_integer() else b for b in given])

    def breaks_shown(self) -> Sequence[float]:
        """The breaks that are in force."""
        return self._style.breaks if self._style.method == "own" else self.histogram.breaks

    def _own_breaks(self, given: list[float]) -> None:
        try:
            style_of({"by": CLASSES, "field": self._style.field or "x", "method": "own", "breaks": given})
        except SettingError as error:
            self.wrong.setText(error.sentence())
            self._layout.setRowVisible(self.wrong, True)
            return
        self._say("set breaks", method="own", breaks=tuple(given))

    def _recolour(self, value: str, colour: str) -> None:
        self._say("colour a value", colours={**self._style.colours, value: colour})

    def _renew(self) -> None:
        column = self._table.column(self._style.field)
        self._say("colour values", colours=colours_for(column, dict(self._style.colours)))


class _ValueLine(QWidget):
    """One value with its colour and count."""

    def __init__(self, text: str, count: int, colour: str, own: bool) -> None:
        super().__init__()
        self.button = ColourButton(f"Colour of {text}")
        self.button.show_colour(colour)
        self.button.setEnabled(own)
        name, number = QLabel(text), QLabel(f"{count:,}")
        name.setTextFormat(Qt.TextFormat.PlainText)
        number.setObjectName("faint")
        row = QHBoxLayout(self)
        row.setContentsMargins(2, 1, 6, 1)
        row.addWidget(self.button)
        row.addWidget(name, 1)
        row.addWidget(number)


def _box(name: str, items: Any = ()) -> QComboBox:
    box = QComboBox()
    box.setAccessibleName(name)
    box.setMinimumWidth(60)
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    for value, text in items:
        box.addItem(text, value)
    return box


def _spin(name: str, least: int, most: int) -> QSpinBox:
    spin = QSpinBox()
    spin.setAccessibleName(name)
    spin.setRange(least, most)
    spin.setKeyboardTracking(False)
    spin.lineEdit().setTextMargins(6, 0, 0, 0)  # the style sheet has no say inside
    spin.setToolTip(f"{least} to {most}; Up and Down change it")
    return spin


def _choose(box: QComboBox, value: object) -> None:
    box.setCurrentIndex(box.findData(value))


def _fill(box: QComboBox, items: Sequence[tuple[str, str]], value: str, lacking: bool) -> None:
    box.clear()
    for name, text in items:
        box.addItem(text, name)
    if lacking and box.findData(value) < 0:
        box.addItem(f"{value} (not here)", value)
    _choose(box, value)
