"""Nothing done twice: what a task made is kept under a digest of all that it hangs on, and taken up again by it."""

from eskret.workflow.cache.cached_layer import CachedLayer, materialise
from eskret.workflow.cache.result_cache import ResultCache
from eskret.workflow.cache.store import Store, live_store, the_store

__all__ = ["CachedLayer", "ResultCache", "Store", "live_store", "materialise", "the_store"]
