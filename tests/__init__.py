"""Tests: most drive the installed program as a person would; see CONTRIBUTING.md."""
