"""The operations, one file each; nothing else knows them by name."""

from eskret.operations.registry import all_operations, operation_by_id

__all__ = ["all_operations", "operation_by_id"]
