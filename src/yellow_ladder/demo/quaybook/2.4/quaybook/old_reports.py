"""Reports of the old kind; gone with 3.0."""


def yearly(store, year):
    return store.rows("SELECT state, count(*) FROM bookings WHERE arrive LIKE ? GROUP BY state", (f"{year}-%",))
