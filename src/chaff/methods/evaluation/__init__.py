"""The final model on rows that were held out: every metric with its interval, class tables, calibration, the worst rows."""
