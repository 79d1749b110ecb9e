-- Skerry Watch: volunteers keep some 400 measuring buoys along an invented coast.
CREATE TABLE region (
    region_id  int PRIMARY KEY,
    name       varchar(40) NOT NULL,
    coast      varchar(10) NOT NULL
);

CREATE TABLE keeper (
    keeper_id  int PRIMARY KEY,
    region_id  int NOT NULL,
    name       varchar(60) NOT NULL,
    joined_on  date NOT NULL,
    FOREIGN KEY (region_id) REFERENCES region (region_id)
);

CREATE TABLE buoy (
    buoy_id    int PRIMARY KEY,
    region_id  int NOT NULL,
    name       varchar(20) NOT NULL,
    kind       varchar(10) NOT NULL,
    moored_on  date NOT NULL,
    depth_m    float NOT NULL,
    FOREIGN KEY (region_id) REFERENCES region (region_id)
);

CREATE TABLE sensor (
    sensor_id  int PRIMARY KEY,
    buoy_id    int NOT NULL,
    kind       varchar(20) NOT NULL,
    unit       varchar(10) NOT NULL,
    fitted_on  date NOT NULL,
    KEY sensor_buoy (buoy_id),
    FOREIGN KEY (buoy_id) REFERENCES buoy (buoy_id)
);

CREATE TABLE reading (
    reading_id bigint PRIMARY KEY,
    sensor_id  int NOT NULL,
    buoy_id    int NOT NULL,
    taken_at   datetime(3) NOT NULL,
    value      double NOT NULL,
    quality    smallint NOT NULL,
    KEY reading_buoy_taken (buoy_id, taken_at),
    KEY reading_buoy (buoy_id),     -- repeats the one above
    KEY reading_quality (quality)   -- nobody uses it
);

CREATE TABLE alert (
    alert_id   int PRIMARY KEY,
    buoy_id    int NOT NULL,
    sensor_id  int NOT NULL,
    raised_at  datetime NOT NULL,
    kind       varchar(20) NOT NULL,
    cause      varchar(20) NOT NULL,
    crew       varchar(20) NOT NULL,
    code       varchar(12) NOT NULL,
    status     varchar(10) NOT NULL,
    message    varchar(200) NOT NULL,
    KEY alert_raised (raised_at),
    KEY alert_sensor_code (sensor_id, code)
);

CREATE TABLE visit (
    visit_id   int PRIMARY KEY,
    buoy_id    int NOT NULL,
    keeper_id  int NOT NULL,
    started_at datetime NOT NULL,
    minutes    int NOT NULL,
    remark     varchar(200),
    KEY visit_buoy (buoy_id)
);
