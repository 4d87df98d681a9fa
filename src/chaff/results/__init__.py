"""What methods hand over: findings, trails, scores, verdicts, cuts."""
