CREATE FUNCTION h(n bigint, salt int) RETURNS bigint LANGUAGE sql IMMUTABLE AS $$
  SELECT abs(hashint8(n * 1000003 + salt))::bigint $$;
CREATE TABLE ward (ward_id int PRIMARY KEY, parent_id int REFERENCES ward, name text NOT NULL, beds int NOT NULL);
INSERT INTO ward SELECT n, nullif(n / 7, 0), 'ward ' || n, 4 + n % 30 FROM generate_series(1, 6000) n;
CREATE TABLE patient (patient_id bigint PRIMARY KEY, code text NOT NULL, surname text NOT NULL, given text NOT NULL,
  born date NOT NULL, phone text, email text, allergies text[] NOT NULL, profile jsonb NOT NULL, notes text,
  archived_at timestamptz);
INSERT INTO patient SELECT n, 'P' || lpad(n::text, 8, '0'), 'surname ' || h(n,1) % 4000, 'given ' || h(n,2) % 900,
  date '1930-01-01' + (h(n,3) % 30000)::int, CASE WHEN n % 3 = 0 THEN '+49' || h(n,4) END, 'p' || n || '@mail.example',
  CASE WHEN n % 50 = 0 THEN ARRAY['nuts','a' || h(n,5) % 300] ELSE '{}' END,
  jsonb_build_object('insurer', 'I' || h(n,6) % 120, 'lang', (ARRAY['en','de','fr'])[1 + n % 3], 'points', n % 1000),
  repeat('note ' || n || ' ', 8), CASE WHEN n % 400 = 0 THEN now() END FROM generate_series(1, 120000) n;
CREATE INDEX patient_surname ON patient (surname);
CREATE INDEX patient_code ON patient (code);
CREATE TABLE doctor (doctor_id int PRIMARY KEY, name text NOT NULL, ward_id int NOT NULL REFERENCES ward, speciality text NOT NULL);
INSERT INTO doctor SELECT n, 'doctor ' || n, 1 + h(n,7) % 6000, 'field ' || n % 40 FROM generate_series(1, 3000) n;
CREATE TABLE visit (visit_id bigint PRIMARY KEY, patient_id bigint NOT NULL REFERENCES patient, doctor_id int NOT NULL REFERENCES doctor,
  starts_at timestamptz NOT NULL, ends_at timestamptz NOT NULL, room int NOT NULL, state text NOT NULL, kind smallint NOT NULL,
  fee numeric(9,2) NOT NULL, during tstzrange GENERATED ALWAYS AS (tstzrange(starts_at, ends_at)) STORED);
INSERT INTO visit (visit_id, patient_id, doctor_id, starts_at, ends_at, room, state, kind, fee)
  SELECT n, 1 + h(n,8) % 120000, 1 + h(n,9) % 3000, t, t + interval '30 min', h(n,10) % 400,
  CASE WHEN n > 598000 THEN 'planned' WHEN n % 11 = 0 THEN 'cancelled' ELSE 'done' END, h(n,11) % 9, (h(n,12) % 90000) / 100.0
  FROM (SELECT n, timestamptz '2023-01-01 00:00+00' + n * interval '150 s' AS t FROM generate_series(1, 600000) n) s;
CREATE INDEX visit_doctor_start ON visit (doctor_id, starts_at);
CREATE INDEX visit_start ON visit (starts_at);
CREATE INDEX visit_planned ON visit (starts_at) WHERE state = 'planned';
CREATE TABLE diagnosis (diagnosis_id bigint PRIMARY KEY, visit_id bigint NOT NULL REFERENCES visit, code text NOT NULL, severity int NOT NULL, said text NOT NULL);
INSERT INTO diagnosis SELECT n, 1 + h(n,13) % 600000, 'D' || h(n,14) % 700, n % 5, 'finding ' || h(n,15) % 5000 || ' of organ ' || h(n,16) % 60 FROM generate_series(1, 500000) n;
CREATE TABLE lab_result (result_id bigint, patient_ref text NOT NULL, taken date NOT NULL, name text NOT NULL, value float8, unit text NOT NULL, raw jsonb);
INSERT INTO lab_result SELECT n, (1 + h(n,17) % 120000)::text, date '2023-01-01' + (n / 500)::int, 'test ' || h(n,18) % 90, h(n,19) % 1000 / 7.0, 'mg', jsonb_build_object('device', 'dev' || n % 40)
  FROM generate_series(1, 400000) n;
CREATE INDEX lab_patient ON lab_result (patient_ref);
CREATE INDEX lab_taken ON lab_result (taken);
CREATE TABLE job (job_id bigint PRIMARY KEY, queue text NOT NULL, run_after timestamptz NOT NULL, done boolean NOT NULL, payload jsonb NOT NULL);
INSERT INTO job SELECT n, 'q' || n % 6, timestamptz '2024-01-01' + n * interval '1 s', n <= 199600, '{}' FROM generate_series(1, 200000) n;
CREATE TABLE bill (bill_id bigint PRIMARY KEY, visit_id bigint NOT NULL REFERENCES visit, sent_on date, paid_on date, total numeric(10,2) NOT NULL, currency char(3) NOT NULL);
INSERT INTO bill SELECT n, n, date '2023-01-02' + (n / 600)::int, CASE WHEN n % 20 > 0 THEN date '2023-02-02' + (n / 600)::int END, (h(n,20) % 90000) / 100.0, CASE WHEN n % 90 = 0 THEN 'CHF' ELSE 'EUR' END FROM generate_series(1, 400000) n;
CREATE INDEX bill_visit ON bill (visit_id);
CREATE INDEX bill_sent_paid ON bill (sent_on, paid_on);
CREATE TABLE device_event (at timestamptz NOT NULL, device int NOT NULL, level int NOT NULL, said text) PARTITION BY RANGE (at);
DO $$ BEGIN FOR m IN 0..11 LOOP EXECUTE format('CREATE TABLE device_event_%s PARTITION OF device_event FOR VALUES FROM (%L) TO (%L)', m, timestamptz '2024-01-01' + m * interval '1 month', timestamptz '2024-01-01' + (m+1) * interval '1 month'); END LOOP; END $$;
INSERT INTO device_event SELECT timestamptz '2024-01-01 00:00:01' + n * interval '60 s', h(n,21) % 900, h(n,22) % 100, 'event ' || n FROM generate_series(1, 500000) n WHERE n * interval '60 s' < interval '365 days';
CREATE FUNCTION fee_class(f numeric) RETURNS text LANGUAGE plpgsql STABLE AS $$ BEGIN RETURN CASE WHEN f > 500 THEN 'high' ELSE 'low' END; END $$;
CREATE VIEW visit_full AS SELECT v.*, p.surname, p.code AS patient_code, d.name AS doctor, w.name AS ward FROM visit v JOIN patient p USING (patient_id) JOIN doctor d USING (doctor_id) JOIN ward w ON w.ward_id = d.ward_id;
