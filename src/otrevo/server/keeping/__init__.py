"""What an installation keeps and what it lets go: sizes, removal with a waiting time, archives of whole productions."""
