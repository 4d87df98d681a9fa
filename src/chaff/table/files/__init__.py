"""Files of any format, folders and addresses, read into Arrow tables."""
