"""Sources of observations: log files now, more to come."""
