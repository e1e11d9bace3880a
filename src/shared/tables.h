#pragma once

namespace jembatan::shared {

/// What each version has besides that before it; the first of them makes version 1. What people may ask for
/// by SQL is written for them: times with their zone, texts without abbreviations.
inline constexpr const char* kTables[] = {R"(
CREATE TABLE node (
  number smallint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  origin text NOT NULL UNIQUE,
  name text NOT NULL,
  version text NOT NULL DEFAULT '',
  plan_revision bigint NOT NULL DEFAULT 0,
  backlog bigint NOT NULL DEFAULT 0,
  last_record bigint NOT NULL DEFAULT 0,
  seen timestamptz NOT NULL DEFAULT now());
CREATE TABLE record (
  day date NOT NULL, node smallint NOT NULL, number bigint NOT NULL,
  received timestamptz NOT NULL, event_time timestamptz NOT NULL,
  client text NOT NULL, source inet NOT NULL, nas text NOT NULL, port text NOT NULL,
  status text NOT NULL, session_id text NOT NULL, user_name text NOT NULL, realm text NOT NULL,
  calling_station text NOT NULL, framed_ip text NOT NULL,
  session_time_s bigint NOT NULL, input_octets numeric(20) NOT NULL, output_octets numeric(20) NOT NULL,
  terminate_cause bigint NOT NULL,
  key bytea NOT NULL, digest bytea NOT NULL, attributes bytea NOT NULL,
  PRIMARY KEY (day, node, number)) PARTITION BY RANGE (day);
CREATE INDEX record_by_user ON record (user_name, received);
CREATE INDEX record_by_session ON record (session_id, nas);
CREATE INDEX record_by_key ON record (key);
)",
                                          R"(
CREATE TABLE plan (
  name text PRIMARY KEY, origin text NOT NULL, last_change bigint NOT NULL DEFAULT 0);
CREATE TABLE plan_change (
  plan text NOT NULL REFERENCES plan ON DELETE CASCADE, number bigint NOT NULL,
  node smallint NOT NULL REFERENCES node, made timestamptz NOT NULL,
  author text NOT NULL, action text NOT NULL, detail text NOT NULL,
  sealed bytea NOT NULL,
  PRIMARY KEY (plan, number));
CREATE TABLE plan_member (
  plan text NOT NULL REFERENCES plan ON DELETE CASCADE, node smallint NOT NULL REFERENCES node,
  public_key bytea NOT NULL, asked timestamptz NOT NULL DEFAULT now(),
  wrapped_key bytea, admitted timestamptz, admitted_by text NOT NULL DEFAULT '',
  PRIMARY KEY (plan, node));
)",
                                          R"(
CREATE TABLE waiting (
  node smallint NOT NULL REFERENCES node, to_group bytea NOT NULL, number bigint NOT NULL,
  received timestamptz NOT NULL, event_time timestamptz NOT NULL,
  client bytea NOT NULL, source inet NOT NULL, realm bytea NOT NULL,
  key bytea NOT NULL, digest bytea NOT NULL, attributes bytea NOT NULL,
  claimed_by smallint REFERENCES node, claimed_until timestamptz, taken timestamptz,
  PRIMARY KEY (node, to_group, number));
CREATE INDEX waiting_free ON waiting (node, to_group, number) WHERE taken IS NULL;
CREATE INDEX waiting_claimed ON waiting (node, claimed_until) WHERE taken IS NULL AND claimed_until IS NOT NULL;
CREATE INDEX waiting_taken ON waiting (node) WHERE taken IS NOT NULL;
)",
                                          R"(
CREATE TABLE code_page (
  plan text NOT NULL REFERENCES plan ON DELETE CASCADE, factor bytea NOT NULL, person bytea NOT NULL,
  page bytea NOT NULL,
  PRIMARY KEY (plan, factor, person));
)"};

}  // namespace jembatan::shared
