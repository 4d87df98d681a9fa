"""Each feature against the target by the statistics that fit the two kinds; pairs that only tell together."""
