"""Tables of others, in and out: CSV, workbooks, the clipboard, Thing Descriptions, JSON."""
