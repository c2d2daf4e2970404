"""Which messages of a source are meant: criteria, exceptions, IDs."""
