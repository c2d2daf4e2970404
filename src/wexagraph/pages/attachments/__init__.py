"""Attachments turned into pages."""
