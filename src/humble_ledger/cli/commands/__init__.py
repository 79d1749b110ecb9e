"""One module per command; each registers itself nowhere: `cli.app` lists them."""
