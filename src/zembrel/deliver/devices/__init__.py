"""What devices take, told in `*.device.toml`, and packs carried to them."""
