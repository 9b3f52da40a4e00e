"""``python -m eskret``."""

from eskret.cli import main

main()
