"""Opening what is encrypted and checking what is signed (S/MIME, OpenPGP): bytes to bytes, and a verdict."""
