"""Speed and memory, each figure as a ratio to something run beside it on the same input. See README.md."""
