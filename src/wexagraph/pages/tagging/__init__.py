"""Tagged PDF (ISO 32000-2, section 14.8; PDF/UA-1, ISO 14289-1): what a page says, in the order in which it is read.

The engine draws and tells no structure. The HTML that it was given has one: `reading_order` reads it, `content` reads
what the engine drew, `matching` finds each drawn run of letters in the HTML, `structure` writes the tree.
"""
