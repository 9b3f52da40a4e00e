"""Rows put into tables of a database by columns, through the driver that Arrow has for SQLite.

It takes a third of the time that statements from here take, and other threads work meanwhile: the interpreter is held only while the
next columns are asked for.
"""

from __future__ import annotations

from collections.abc import Generator
from contextlib import contextmanager
from pathlib import Path

import adbc_driver_manager as adbc
import adbc_driver_sqlite
import pyarrow as pa

_SETTINGS = ("journal_mode = OFF", "synchronous = OFF", "cache_size = -8192")
"""The file is a staged one: it is synced before it is committed, and thrown away after an error."""


class Ingest:
    """A staged file within one transaction. Nothing else of this process may have it open: when one of two copies of SQLite closes
    a file, the locks of both are gone."""

    def __init__(self, connection: adbc.AdbcConnection) -> None:
        self._connection = connection

    def say(self, sql: str) -> None:
        """Do a statement; what it answers goes nowhere.

        Raises
        ------
        adbc_driver_manager.Error : it cannot be done.
        """
        with adbc.AdbcStatement(self._connection) as statement:
            statement.set_sql_query(sql)
            rows, _ = statement.execute_query()
            pa.RecordBatchReader._import_from_c(rows.address).close()

    def put(self, table: str, batches: pa.RecordBatchReader) -> None:
        """Put rows into a table that is there: columns of whole numbers, numbers, texts and bytes.

        Raises
        ------
        adbc_driver_manager.Error : it cannot be written, or making a batch failed.
        """
        with adbc.AdbcStatement(self._connection) as statement:
            ingest = {adbc.INGEST_OPTION_TARGET_TABLE: table, adbc.INGEST_OPTION_MODE: adbc.INGEST_OPTION_MODE_APPEND}
            statement.set_options(**ingest)
            statement.bind_stream(batches)
            statement.execute_update()


@contextmanager
def ingesting(path: Path) -> Generator[Ingest, None, None]:
    """Open a staged file to put rows into it; they are committed at the end.

    Raises
    ------
    adbc_driver_manager.Error : it cannot be written.
    """
    driver = adbc_driver_sqlite._driver_path()
    with adbc.AdbcDatabase(driver=driver, uri=str(path)) as database, adbc.AdbcConnection(database) as connection:
        into = Ingest(connection)
        for setting in _SETTINGS:
            into.say(f"PRAGMA {setting}")
        into.say("BEGIN IMMEDIATE")
        yield into
        into.say("COMMIT")
