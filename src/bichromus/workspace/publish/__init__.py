"""The picture on its way out: files, summary, process record."""
