"""``python -m zerotilt.services server|worker``.

What is started from a module of this name is not loaded anew by the processes that it starts in turn.
"""

import importlib
import sys

from zerotilt import lean

if __name__ == "__main__":
    lean.leave_out()
    lean.compile_nothing()
    importlib.import_module(f"zerotilt.services.{sys.argv[1]}").main()
