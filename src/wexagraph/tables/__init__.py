"""Tables: typed columns, rows, and writers that escape what a spreadsheet would run."""
