"""What verbs that deliver packs share: colours and formats of tiles, squares, ranges of heights."""
