"""Files from messages: plan, names, writers, journal, register and checksums."""
