"""Seals over what was made: signatures and time stamps that others prove with their own programs."""
