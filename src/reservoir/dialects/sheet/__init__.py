"""The sheet language: header, body, patterns, and what is checked when a sheet is loaded."""
