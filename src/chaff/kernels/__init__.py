"""Every compiled loop, and nothing else: arrays in, arrays out, no names, no options, no errors."""
