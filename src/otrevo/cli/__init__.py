"""Headless passes over files: `./otrevo run <pass> ...`. The same functions as in the web application."""
