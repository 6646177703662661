"""`python -m yellow_ladder` is the same program as `yl`."""

from yellow_ladder.cli.main import run

if __name__ == "__main__":
    run()
