"""What chance alone would give: shuffled targets, shadow columns, stability over half-samples, decoys, knockoffs."""
