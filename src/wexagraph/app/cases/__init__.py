"""Cases of a records folder: opened, filed into, merged, proved, disposed of."""
