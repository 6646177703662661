"""Reports by month."""


def monthly(store, year):
    sql = "SELECT substr(arrive, 1, 7), count(*), sum(total_cents) FROM bookings WHERE arrive LIKE ? GROUP BY 1"
    return store.rows(sql, (f"{year}-%",))
