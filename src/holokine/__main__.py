"""`python -m holokine`: the command line."""

from holokine.cli.main import run

if __name__ == "__main__":
    run()
