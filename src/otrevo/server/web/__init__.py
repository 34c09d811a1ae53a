"""The web server's edge: what it reads of a request before anything is stored, how long it waits, what it writes down."""
