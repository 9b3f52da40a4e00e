"""Nothing done twice: what a task made is kept under a digest of all that it hangs on, and taken up again by it."""

from eskret.workflow.reuse.keeping import Keeping
from eskret.workflow.reuse.kept import CachedLayer, loaded
from eskret.workflow.reuse.store import Store, the_store

__all__ = ["CachedLayer", "Keeping", "Store", "loaded", "the_store"]
