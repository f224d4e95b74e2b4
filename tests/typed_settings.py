"""The settings of no installation: the type checker reads Django's models by them."""

from __future__ import annotations

import os
import tempfile

from maestoso.cli.keys import make_secrets
from maestoso.server.config.options import read_options

_folder = tempfile.TemporaryDirectory()
os.environ["MAESTOSO_VAR"] = _folder.name
make_secrets(read_options())

from maestoso.server.config.settings import *  # noqa: E402, F403
