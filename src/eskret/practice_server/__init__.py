"""The practice server: a stand-in for a service that publishes datasets, on this machine alone.

It speaks OGC API - Features, Part 1 (17-069r4: Core, GeoJSON, HTML, OpenAPI 3.0) and the transactions of Part 4 (20-002:
create, replace, update, delete, optimistic locking), keeps what it is given in one SQLite file, and can be told to be slow
or to fail. It imports nothing of the rest of Eskret, and only the command line imports it.
"""

from eskret.practice_server.serving import PracticeServer

__all__ = ["PracticeServer"]
