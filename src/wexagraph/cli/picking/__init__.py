"""The list in the terminal from which messages are picked. Only this room knows prompt_toolkit."""
