"""Jobs as they run: what is due, what may be overwritten, steps in processes of their own."""
