"""Resolving and wiring: configuration, accounts, opening sources, what is done at a source afterwards."""
