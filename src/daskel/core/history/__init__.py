"""What happened: events, stages, boots, outcome, diagnosis. Knows nothing of who answers, or
why."""
