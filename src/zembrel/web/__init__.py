"""The web: asking servers politely, keeping what they gave, and not believing them."""
