"""Every stage and look as a single call: the same pins, the same verdict columns, the same trail."""
