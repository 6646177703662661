"""Quaybook: berth bookings for a small harbour. Since 4.0 it brings its schema up to date when it starts."""

import manage
import serving


def main():
    manage.migrate(ask=False)
    print(f"schema is at {manage.schema()}", flush=True)
    serving.main()


if __name__ == "__main__":
    main()
