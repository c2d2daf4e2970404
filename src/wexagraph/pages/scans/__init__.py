"""Scans: pages that are pictures get an invisible layer of the words that a program recognised in them."""
