"""What tests of forked processes run: says what it sees of itself, and ends as the first argument says."""

from __future__ import annotations

import atexit
import json
import os
import sys
import threading
from pathlib import Path

if __name__ == "__main__":
    told = {
        "arguments": sys.argv[1:],
        "file": sys.argv[0],
        "environment": dict(os.environ),
        "title": Path("/proc/self/cmdline").read_bytes().replace(b"\0", b" ").decode().strip(),
    }
    print(json.dumps(told), flush=True)
    threading.Thread(target=lambda: print("a thread ends", flush=True)).start()
    atexit.register(print, "the last word", flush=True)
    how = sys.argv[1]
    if how == "raises":
        raise ValueError("it cannot go on")
    if how != "returns":
        sys.exit(int(how) if how.isdigit() else how)
