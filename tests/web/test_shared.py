"""The second door: nobody unpaired gets a byte of data, a role is what it says, and codes, cookies and names hold."""

import re
import ssl
import stat
from datetime import timedelta

import pytest
from cryptography import x509
from icalendar import Calendar

from iterum.services.authority import Authority
from iterum.services.sharing import MOST_TRIES, NAME, TRIES, NotPaired, Role, Shared, Sharing
from iterum.web.doors import SHARED
from iterum.web.pictures.day_strip import visits
from iterum.web.who import BENCH_ACTS, BENCH_READS
from tests.conftest import NOON
from tests.web.conftest import planned

HERE, PHONE, OTHER = "10.7.7.1", "10.7.7.2", "10.7.7.3"
CHROME = "Mozilla/5.0 (Linux; Android 15) Chrome/141.0.1 Mobile"


class Device:
    """A browser on the network."""

    def __init__(self, app, address=PHONE, agent=CHROME, host=HERE):
        self.client = app.test_client()
        self.address, self.agent, self.host = address, agent, host

    def ask(self, path, method="GET", **more):
        headers = {"User-Agent": self.agent, "Host": f"{self.host}:8766", "Referer": f"https://{self.host}:8766/"}
        return self.client.open(
            path, method=method, base_url=f"https://{self.host}:8766", headers=headers,
            environ_overrides={SHARED: True, "REMOTE_ADDR": self.address}, buffered=True, **more,
        )  # fmt: skip

    def send(self, path, page="/share/pair", **data):
        token = re.search(r'name="csrf[-_]token"[^>]*?(?:content|value)="([^"]+)"', self.ask(page).text)
        return self.ask(path, "POST", data={"csrf_token": token[1] if token else "", **data})

    def pair(self, code, name="my phone"):
        return self.send("/share/pair", code=code, name=name)


@pytest.fixture
def shared(demo_app):
    """The demo, shared; a code is open."""
    sharing = demo_app.extensions["iterum"]["sharing"]
    sharing.shared = Shared(None, False, 8766, (HERE,), True, "AB CD")
    sharing.code = sharing.offer(Role.BENCH, NOON)
    return sharing


@pytest.fixture
def at(demo_app):
    """Set the clock of the application so many minutes on."""

    def set_to(minutes):
        demo_app.extensions["iterum"]["clock"] = lambda: NOON + timedelta(minutes=minutes)
        return NOON + timedelta(minutes=minutes)

    return set_to


def addresses_of(app):
    """(address, method) of every route there is: a new one cannot be forgotten."""
    for rule in app.url_map.iter_rules():
        path = (
            rule.rule.replace("<part>", "board")
            .replace("<secret>", "guess")
            .replace("<path:tag>", "P-01")
            .replace("<int:key>", "1")
            .replace("<path:filename>", "css/tokens.css")
        )
        for method in sorted(rule.methods - {"OPTIONS"}):
            yield rule.endpoint, path, method


def test_who_is_not_paired_gets_no_byte_of_data_from_any_address(demo_app, shared):
    secrets = {pack.id for pack in demo_app.extensions["iterum"]["desk"].session().packs} | {
        "Harrow",
        "Leisure battery",
    }
    stranger, asked = Device(demo_app), 0
    for endpoint, path, method in addresses_of(demo_app):
        answer = stranger.ask(path, method)
        asked += 1
        if endpoint in (
            "static",
            "style_sheet",
            "share.pairing",
            "share.pair",
            "share.authority",
            "offline.worker",
            "offline.shell",
            "offline.no_link",
        ):
            assert answer.status_code in (200, 400, 403, 405), path
        else:
            assert answer.status_code == 403, (path, method)
        text = answer.get_data(as_text=True)
        assert not any(secret in text for secret in secrets), (path, method)
        assert "csrf-token" not in text
    for path in (
        "/nowhere",
        "/share/../packs",
        "//packs",
        "/static/../../etc/passwd",
        "/.git/config",
        "/static/%2e%2e/app.py",
    ):
        answer = stranger.ask(path)
        assert answer.status_code in (301, 308, 403, 404), path
        assert not any(secret in answer.text for secret in secrets)
    assert asked > 100


def test_a_code_pairs_one_device_once(demo_app, shared):
    first, second = Device(demo_app), Device(demo_app, OTHER)
    assert first.ask("/measure").status_code == 403
    assert first.pair(shared.code.secret).status_code == 302
    cookie = next(item for item in first.client._cookies.values() if item.key.endswith("_phone"))
    assert (cookie.secure, cookie.http_only, cookie.same_site) == (True, True, "Strict")
    assert first.ask("/measure").status_code == 200
    assert "P-01" in first.ask("/measure").text
    assert second.pair(shared.code.secret).status_code == 403  # replayed
    assert second.ask("/measure").status_code == 403
    assert [(item.name, item.role) for item in shared.phones()] == [("my phone", "bench")]


def test_the_sixth_try_finds_no_code(demo_app, shared):
    device = Device(demo_app)
    for left in range(TRIES - 1, 0, -1):
        assert f"{left} {'tries are' if left > 1 else 'try is'} left" in device.pair("00000000").text
    assert "Ask for a new one" in device.pair("00000000").text
    assert "tried too often" in device.pair(shared.code.digits).text
    assert device.ask("/measure").status_code == 403


def test_a_stranger_voids_no_code_of_others_and_the_bench_sees_who_tried(demo_app, shared, visitor):
    stranger = Device(demo_app, OTHER)
    for _ in range(TRIES + 2):
        stranger.pair("00000000")
    assert f"{TRIES} wrong codes from {OTHER}" in visitor.get("/share").seen.said
    assert Device(demo_app).pair(shared.code.digits).status_code == 302  # its owner comes in all the same
    many = shared.offer(Role.BENCH, NOON)
    for number in range(MOST_TRIES):  # from many addresses: that is no slip
        with pytest.raises(NotPaired):
            shared.pair("00000000", "", CHROME, f"10.7.8.{number}", NOON)
    with pytest.raises(NotPaired, match="No code is open"):
        shared.pair(many.digits, "", CHROME, PHONE, NOON)


def test_digits_pair_as_well_and_a_code_lasts_five_minutes(demo_app, shared, at):
    at(4.9)
    assert Device(demo_app).pair(f"{shared.code.digits[:4]} {shared.code.digits[4:]}").status_code == 302
    shared.code = shared.offer(Role.BENCH, NOON)
    at(5.1)
    assert "No code is open" in Device(demo_app).pair(shared.code.secret).text


def paired(app, shared, role=Role.BENCH, **more):
    device = Device(app, **more)
    assert device.pair(shared.offer(role, app.extensions["iterum"]["clock"]()).secret).status_code == 302
    return device


def test_forgotten_is_out_at_once_and_its_cookie_is_worth_nothing(demo_app, shared):
    device = paired(demo_app, shared)
    shared.forget(shared.phones()[0].key, NOON)
    assert device.ask("/measure").status_code == 403


def test_a_cookie_on_a_second_device_shuts_both_out(demo_app, shared, at, visitor):
    device = paired(demo_app, shared)
    thief = Device(demo_app, OTHER)
    thief.client._cookies = device.client._cookies
    assert thief.ask("/measure").status_code == 403
    assert device.ask("/measure").status_code == 403
    assert "at once" in shared.phones()[0].gone_why
    other = paired(demo_app, shared)
    stranger = Device(demo_app, PHONE, "curl/8.0")
    stranger.client._cookies = other.client._cookies
    assert stranger.ask("/measure").status_code == 403  # another kind of browser
    newer = Device(demo_app, PHONE, CHROME.replace("141.0.1", "142.0.0"))
    newer.client._cookies = other.client._cookies
    assert newer.ask("/measure").status_code == 200  # the same one, renewed
    at(3)
    moved = Device(demo_app, OTHER)
    moved.client._cookies = other.client._cookies
    answer = moved.ask(
        "/measure"
    )  # the network gave it another address meanwhile, or it was stolen while its owner sleeps
    number = re.search(r"beside the number (\d\d)", answer.text)[1]
    assert (answer.status_code, "P-01" in answer.text) == (403, False)
    asked = visitor.get("/share").seen
    assert f"asks from {OTHER}, was {PHONE}" in asked.said
    address, values = asked.form(f"It shows {number}")
    assert "does not ask any more" in visitor.post(address, **{**values, "number": "00"}).seen.said
    assert "let in at its new address" in visitor.post(address, **values).seen.said
    assert moved.ask("/measure").status_code == 200


def test_a_device_of_the_bench_works_there_and_nowhere_else(demo_app, shared):
    device, master = paired(demo_app, shared), paired(demo_app, shared, Role.ALL, address=OTHER)
    for path in ("/measure", "/match", "/bench", "/plan", "/wrong", "/put-away", "/heats", "/packs", "/log"):
        assert device.ask(path).status_code == 200, path
    seen = device.ask("/measure").text
    assert 'href="/kit' not in seen
    assert 'href="/files' not in seen
    for path in ("/kit", "/files", "/files/archive.jsonl", "/files/copy.sqlite3", "/rules", "/share", "/share/ways.json",
                 "/packs/edit", "/log/log.csv"):  # fmt: skip
        assert device.ask(path).status_code == 403, path
        assert master.ask(path).status_code == 200, path
    for path in (
        "/rules",
        "/kit/board",
        "/plan",
        "/share/offer",
        "/share/forget",
        "/files/import",
        "/heats",
        "/packs/retire",
    ):
        assert device.send(path, "/measure").status_code == 403, path
    assert device.send("/measure/air", "/measure", air_c="21", pack="P-01").status_code == 302


def test_a_new_page_is_closed_to_the_bench_until_somebody_opens_it():
    assert not any("*" in pattern.partition(".")[0] for pattern in (*BENCH_READS, *BENCH_ACTS))
    for room in ("kit", "files", "rules", "share"):
        assert not any(pattern in (f"{room}.*", f"{room}.page") for pattern in (*BENCH_READS, *BENCH_ACTS))


@pytest.mark.parametrize(
    "host", ["127.0.0.1", "localhost", "evil.example", "10.7.7.9", "iterum.local.evil.example", ""]
)
def test_another_name_than_its_own_is_refused_at_each_door(host, demo_app, shared):
    assert Device(demo_app, host=host or "x y").ask("/share/pair").status_code == 400
    local = demo_app.test_client()
    for name in (HERE, NAME):
        assert local.get("/measure", headers={"Host": f"{name}:8765"}).status_code == 400


def test_a_closed_door_and_one_whose_time_is_over_let_nobody_in(demo_app, shared, at):
    device = paired(demo_app, shared)
    shared.shared = Shared(NOON + timedelta(hours=1), False, 8766, (HERE,))
    assert device.ask("/measure").status_code == 200
    at(61)
    assert device.ask("/measure").status_code == 403
    shared.shared = None
    assert device.ask("/measure").status_code == 403


def test_a_change_without_a_token_or_from_another_page_is_refused(demo_app, shared):
    device = paired(demo_app, shared)
    assert device.ask("/measure/air", "POST", data={"air": "20"}).status_code == 400


def test_the_page_says_how_it_is_shared_and_every_page_shows_it(visitor, shared):
    page = visitor.get("/share").seen
    assert f"{shared.code.digits[:4]} {shared.code.digits[4:]}" in page.said
    assert "AB CD" in page.said
    assert "Shared , 0 in" in visitor.get("/packs").seen.said.replace("Shared,", "Shared ,")


def test_only_the_hash_of_a_token_is_kept(demo_app, shared):
    store = demo_app.extensions["iterum"]["store"]
    token = Sharing.pair(shared, shared.code.secret, "x", CHROME, PHONE, NOON)
    with store.engine.connect() as connection:
        kept = connection.exec_driver_sql("SELECT * FROM phones").all()
    assert len(token) >= 43  # 256 bits
    assert token not in str(kept)


class TestAuthority:
    def test_its_key_is_the_owners_alone_and_it_vouches_for_private_names_only(self, tmp_path):
        made = Authority(tmp_path, NOON)
        for name in ("authority.key",):
            assert stat.S_IMODE((tmp_path / name).stat().st_mode) == 0o600
        said = made.certificate.extensions.get_extension_for_class(x509.NameConstraints)
        assert said.critical
        assert {str(item.value) for item in said.value.permitted_subtrees} >= {"local", "10.0.0.0/8", "192.168.0.0/16"}
        assert Authority(tmp_path, NOON).der == made.der

    def test_a_certificate_is_kept_while_it_fits_and_made_anew_when_the_network_changes(self, tmp_path):
        made = Authority(tmp_path, NOON)
        first = made.server((HERE,), (NAME,), NOON).read_bytes()
        assert made.server((HERE,), (NAME,), NOON).read_bytes() == first
        assert made.server((HERE,), (NAME,), NOON + timedelta(days=280)).read_bytes() != first
        other = made.server((OTHER,), (NAME,), NOON)
        assert other.read_bytes() != first
        assert stat.S_IMODE(other.stat().st_mode) == 0o600
        leaf = x509.load_pem_x509_certificate(other.read_bytes())
        assert leaf.not_valid_after_utc - leaf.not_valid_before_utc < timedelta(days=398)

    @pytest.mark.parametrize(
        ("name", "believed"), [(HERE, True), (NAME, True), ("8.8.8.8", False), ("bank.example", False)]
    )
    def test_a_library_believes_it_for_its_own_names_and_never_for_others(self, name, believed, tmp_path):
        made = Authority(tmp_path, NOON)
        number = name[0].isdigit()
        leaf = made.server((name,) if number else (), () if number else (name,), NOON)
        mine, theirs = ssl.create_default_context(cafile=made.path), ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        theirs.load_cert_chain(leaf)
        to_server, to_client = ssl.MemoryBIO(), ssl.MemoryBIO()
        client = mine.wrap_bio(to_client, to_server, server_hostname=name)
        server = theirs.wrap_bio(to_server, to_client, server_side=True)

        def shake():
            for _ in range(6):
                for side in (client, server):
                    try:
                        side.do_handshake()
                    except ssl.SSLWantReadError:
                        continue
            return client.getpeercert()

        if believed:
            assert shake()
        else:
            with pytest.raises(ssl.SSLCertVerificationError):
                shake()


def test_a_code_is_not_guessed_by_its_length(demo_app, shared):
    with pytest.raises(NotPaired):
        shared.pair("", "x", CHROME, PHONE, NOON)


class TestCalendar:
    def subscribed(self, visitor, demo_app):
        said = visitor.post("/share/calendar").seen.said
        return re.search(r"https://\S+(/share/calendar/\S+\.ics)", said)[1]

    def test_it_holds_the_visits_with_alarms_and_nothing_but_times_and_tags(self, demo_app, shared, visitor):
        planned(visitor)
        path = self.subscribed(visitor, demo_app)
        raw = Device(demo_app, agent="Calendar/1.0").ask(path)
        assert raw.status_code == 200
        events = list(Calendar.from_ical(raw.data).walk("VEVENT"))
        plan = demo_app.extensions["iterum"]["desk"].latest_plan()
        starts = {item["dtstart"].dt for item in events}
        assert {
            plan.moment(start).replace(microsecond=0) for start, _, _ in visits(plan.plan.batches) if start > 0
        } <= starts
        assert all(item.walk("VALARM")[0]["trigger"].dt == timedelta(minutes=-2) for item in events)
        tags = {pack.id for pack in demo_app.extensions["iterum"]["desk"].session().packs}
        words = {word.strip(",;") for item in events for word in str(item["summary"]).split()}
        assert words - tags == {"Plug", "in", "Take", "off"}

    def test_it_opens_nothing_else_and_is_revoked(self, demo_app, shared, visitor):
        path = self.subscribed(visitor, demo_app)
        device = Device(demo_app, agent="")
        device.client.set_cookie(f"{demo_app.config['SESSION_COOKIE_NAME']}_phone", path.rpartition("/")[2].removesuffix(".ics"),
                                 domain=HERE)  # fmt: skip
        assert device.ask("/measure").status_code == 403
        assert device.ask("/share/calendar/guess.ics").status_code == 403
        shared.forget(next(item.key for item in shared.phones() if item.role == "calendar"), NOON)
        assert device.ask(path).status_code == 403

    def test_a_check_that_is_due_stands_in_it(self, bench):
        key = bench.charging()
        raw = bench.visitor.client.get("/plan/visits.ics").data
        (event,) = [item for item in Calendar.from_ical(raw).walk("VEVENT") if "Touch" in item["summary"]]
        begun = bench.runs.look(key, bench.clock()).run.charging_at
        assert event["dtstart"].dt == (begun + timedelta(minutes=10)).replace(microsecond=0)


def test_a_rehearsal_is_not_begun_from_a_phone(demo_app, shared):
    device = paired(demo_app, shared, Role.ALL)
    answer = device.send("/rehearse/begin", speed="10")
    assert answer.status_code == 409
    assert not demo_app.extensions["iterum"]["rehearsals"].running
