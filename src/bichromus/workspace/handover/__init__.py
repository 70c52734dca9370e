"""What one person hands to another: hours, stacks or pooled masters, subs, recipes of versions."""
