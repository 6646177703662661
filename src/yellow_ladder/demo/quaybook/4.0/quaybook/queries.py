"""What differs from release to release: SQL and the places of files."""

SETTINGS_FILE = "config/quaybook.ini"
KEY_FILE = "config/secret.key"
STYLE_FILE = "static/css/style.css"
HARBOUR_KEY = "name"

BOOKINGS = (
    "SELECT arrive, depart, state, total_cents / 100.0, boats.name, berths.code FROM bookings"
    " JOIN boats ON boats.id = boat_id JOIN berths ON berths.id = berth_id ORDER BY bookings.id DESC LIMIT 30"
)
BOATS = (
    "SELECT boats.name, length_cm / 100.0, owners.name, addresses.town FROM boats"
    " JOIN owners ON owners.id = boats.owner_id JOIN addresses ON addresses.owner_id = owners.id ORDER BY boats.id LIMIT 30"
)
ADD_BOOKING = (
    "INSERT INTO bookings (boat_id, berth_id, arrive, depart, state, total_cents, channel)"
    " VALUES (:boat, :berth, :arrive, :depart, 'asked', 0, 'web')"
)
