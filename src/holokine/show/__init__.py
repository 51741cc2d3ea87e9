"""Tables, figures and text. Tables hold the numbers; only the command line prints."""
