-- Skerry Watch: volunteers keep some 400 measuring buoys along an invented coast.
CREATE TABLE region (
    region_id  integer PRIMARY KEY,
    name       text NOT NULL,
    coast      text NOT NULL
);

CREATE TABLE keeper (
    keeper_id  integer PRIMARY KEY,
    region_id  integer NOT NULL REFERENCES region,
    name       text NOT NULL,
    joined_on  date NOT NULL
);

CREATE TABLE buoy (
    buoy_id    integer PRIMARY KEY,
    region_id  integer NOT NULL REFERENCES region,
    name       text NOT NULL,
    kind       text NOT NULL,
    moored_on  date NOT NULL,
    depth_m    real NOT NULL
);

CREATE TABLE sensor (
    sensor_id  integer PRIMARY KEY,
    buoy_id    integer NOT NULL REFERENCES buoy,
    kind       text NOT NULL,
    unit       text NOT NULL,
    fitted_on  date NOT NULL
);

CREATE TABLE reading (
    reading_id bigint NOT NULL,
    sensor_id  integer NOT NULL,
    buoy_id    integer NOT NULL,
    taken_at   timestamptz NOT NULL,
    value      double precision NOT NULL,
    quality    smallint NOT NULL
);

CREATE TABLE alert (
    alert_id   integer PRIMARY KEY,
    buoy_id    integer NOT NULL REFERENCES buoy,
    sensor_id  integer NOT NULL,
    raised_at  timestamptz NOT NULL,
    kind       text NOT NULL,
    cause      text NOT NULL,
    crew       text NOT NULL,
    code       text NOT NULL,
    status     text NOT NULL,
    message    text NOT NULL
);

CREATE TABLE visit (
    visit_id   integer PRIMARY KEY,
    buoy_id    integer NOT NULL REFERENCES buoy,
    keeper_id  integer NOT NULL REFERENCES keeper,
    started_at timestamptz NOT NULL,
    minutes    integer NOT NULL,
    remark     text
);
