"""What stands between the network and the application: bodies, open streams, and the server that holds them."""
