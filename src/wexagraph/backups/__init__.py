"""Offline backups: bags of immutable volumes, a list for each run, and a catalogue that can be made again."""
