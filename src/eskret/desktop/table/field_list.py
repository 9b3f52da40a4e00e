"""What a layer holds, field by field, and what it is: the properties of the layer that is looked at."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHeaderView, QLabel, QTableWidget, QTableWidgetItem, QVBoxLayout, QWidget

from eskret.core.words import pluralise
from eskret.desktop.table.layer_model import show
from eskret.formats.dbf import declared

_HEADS = ("Field", "Type", "Empty", "Different", "Least", "Greatest", "Most frequent")


class FieldsView(QWidget):
    """Lines about the layer, and a row for each field."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("formBody")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.about = QLabel()
        self.about.setWordWrap(True)
        self.about.setTextFormat(Qt.TextFormat.PlainText)
        self.about.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.about.setContentsMargins(12, 8, 10, 8)
        self.table = QTableWidget(0, len(_HEADS))
        self.table.setAccessibleName("Fields of the layer")
        self.table.setHorizontalHeaderLabels(_HEADS)
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(23)
        self.table.setShowGrid(False)
        self.table.setAlternatingRowColors(True)
        self.table.setWordWrap(False)
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        self.table.setHorizontalScrollMode(QTableWidget.ScrollMode.ScrollPerPixel)
        self.table.horizontalHeader().setHighlightSections(False)
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        self.table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        for number in (2, 3):
            head = self.table.horizontalHeaderItem(number)
            assert head is not None
            head.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.about)
        column.addWidget(self.table, 1)

    def show_layer(self, info: Mapping[str, object]) -> None:
        """Say what the layer is; its fields follow when they have been read."""
        self.about.setText("\n".join(about_lines(info)))
        self.table.setRowCount(0)

    def show_fields(self, fields: Sequence[Mapping[str, Any]], titles: Mapping[str, str]) -> None:
        """Fill the rows."""
        self.table.setRowCount(len(fields))
        for row, field in enumerate(fields):
            title = titles.get(field["name"], "")
            name = f"{field['name']} · {title}" if title else field["name"]
            values = [field["least"], field["greatest"]]
            texts = [
                name,
                field["word"],
                f"{field['nulls']:,}",
                f"{field['distinct']:,}",
                *("" if v is None else show(v) for v in values),
                ", ".join(show(v) for v in field["sample"]),
            ]
            for column, text in enumerate(texts):
                item = QTableWidgetItem(text)
                if column in (2, 3):
                    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                item.setToolTip(text if len(text) > 24 else "")
                self.table.setItem(row, column, item)
        self.table.resizeColumnsToContents()
        for column in range(len(_HEADS)):
            self.table.setColumnWidth(column, min(self.table.columnWidth(column) + 8, 190))


def about_lines(info: Mapping[str, Any]) -> list[str]:
    """The layer in words: rows, geometry, CRS with unit and area of use, extent, file."""
    lines = [f"{info['key']}: {pluralise(info['rows'], 'row')}, {info['kind'] if info['kind'] == 'table' else info['kind'] + 's'}"]
    crs = info["crs"]
    if crs:
        unit = f", in {crs['unit']}" if crs["unit"] else ""
        lines.append(f"{crs['name']} ({_short_code(crs['code'])}){unit}")
        if crs["area"]:
            lines.append(f"Used in: {crs['area']}")
    elif info["drawn"]:
        lines.append("No coordinate system is declared.")
    if info["extent"]:
        x0, y0, x1, y1 = info["extent"]
        places = 5 if crs and crs["geographic"] else 1
        lines.append(f"From {x0:,.{places}f}, {y0:,.{places}f} to {x1:,.{places}f}, {y1:,.{places}f}")
    path = Path(info["origin"]) if info["origin"] else None
    if path is not None and path.is_file():
        lines.append(f"{path.name}, {file_words(path)}{_encoding(path)}")
    return lines


def file_words(path: Path) -> str:
    """Size and last change of a file."""
    import datetime as dt

    try:
        state = path.stat()
    except OSError:
        return "gone"
    size = state.st_size
    words = f"{size / 1e6:,.1f} MB" if size >= 1e6 else f"{max(1, round(size / 1000)):,} kB"
    return f"{words}, changed {dt.datetime.fromtimestamp(state.st_mtime):%Y-%m-%d %H:%M}"


def _encoding(path: Path) -> str:
    """The encoding that a shapefile declares for its texts."""
    if path.suffix.lower() != ".shp":
        return ""
    word = declared(path)
    return f", texts in {word}" if word else ", texts in no declared encoding"


def _short_code(code: str) -> str:
    return code if len(code) < 40 else "no code"
