"""Repeatable measurements: `./otrevo bench [NAME]`. Each prints what it measured and one JSON line."""
