"""Methods side by side on equal footing: each learned inside every training fold, all scored by one model on the rows left out."""
