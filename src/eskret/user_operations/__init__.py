"""Operations of the analyst's own: Python files in the project's ``operations`` folder, declared with a decorator.

Code is imported only after it was trusted, by the hash of what is in the folder; a workflow file alone can never run any.
"""
