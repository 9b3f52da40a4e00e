"""``python -m eskret``."""

import os
import sys

# started so, Python looks for libraries in the folder it was started in, which may be a stranger's
if not sys.flags.safe_path and sys.path and sys.path[0] in ("", os.getcwd()):
    del sys.path[0]

from eskret.cli import main

main()
