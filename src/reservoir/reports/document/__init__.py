"""The document for a change request: built once, written as an HTML page or as Markdown."""
