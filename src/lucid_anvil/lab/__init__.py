"""What is kept: ledger, jobs, plans, takes, findings."""
