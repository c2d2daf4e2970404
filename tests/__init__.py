"""Tests: most drive the installed program as a person would; see CONTRIBUTING.md."""

import os

os.environ["LC_ALL"] = "C.UTF-8"
