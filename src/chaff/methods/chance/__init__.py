"""What chance alone would give: shuffled targets, permuted twins, stability over half-samples, decoys, knockoffs."""
