"""Only the attachments: each as a file of its own, byte for byte, as a PDF, or both."""
