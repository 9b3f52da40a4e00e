"""The handbook in the browser: written into the user's cache, with the project's own operations and the open workflow."""

from __future__ import annotations

from pathlib import Path

from platformdirs import user_cache_path
from PySide6.QtCore import QUrl
from PySide6.QtGui import QDesktopServices

from eskret.desktop.state.session import Session
from eskret.errors import EskretError
from eskret.operations.registry import all_operations, operation_by_id, own_operations
from eskret.workflow.faces.handbook import page_name, write_handbook


def write(session: Session, use: str = "") -> Path:
    """Write the handbook; the page of an operation, or the first one.

    Raises
    ------
    EskretError : it cannot be written.
    """
    home = user_cache_path("eskret", appauthor=False) / "handbook"
    document = session.document
    file = session.path.name if session.path is not None else "workflow.toml"
    workflows = {file: document} if document.steps else {}
    first = write_handbook(home, [*all_operations().values(), *own_operations()], workflows)
    try:
        return home / page_name(operation_by_id(use)) if use else first
    except EskretError:
        return first


def open_page(path: Path) -> None:
    """Show a page in the browser."""
    QDesktopServices.openUrl(QUrl.fromLocalFile(str(path)))
