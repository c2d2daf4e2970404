"""A page to browse an export folder in any browser, without a network and without this program."""
