"""Workflows: the document, its rehearsal, the engine, and what is made of a run."""

from eskret.operations.registry import add_from_above, find_own_with

add_from_above("workflow", "eskret.workflow.run.subworkflow")
find_own_with("eskret.user_operations.loader")
