"""What may go wrong, put in on purpose: each module gives jobs, a name and what became of it."""
