//! The tables as Diesel sees them. A test compares them with the migrated database.

diesel::table! {
    editions (number) {
        number -> Integer, document -> Text, note -> Text, author -> Text, published_at -> Timestamptz,
        copy_of -> Nullable<Integer>, confirm_by -> Nullable<Timestamptz>, confirmed_by -> Nullable<Text>,
        secrets -> Nullable<Jsonb>,
    }
}
diesel::table! {
    drafts (single) {
        single -> Bool, version -> BigInt, document -> Text, based_on -> Integer, author -> Text, changed_at -> Timestamptz,
    }
}
diesel::table! {
    agreements (document, edition, provider, subject) {
        document -> Binary, edition -> Integer, provider -> Text, subject -> Text, name -> Text, at -> Timestamptz,
        authority -> Text, likeness -> Jsonb,
    }
}
diesel::table! {
    secrets (name) { name -> Text, version -> Integer, next -> Nullable<Integer>, latest -> Integer, }
}
diesel::table! {
    secret_versions (name, version) {
        name -> Text, version -> Integer, sealed -> Binary, changed_at -> Timestamptz, changed_by -> Text,
        waits -> Bool, likeness -> Jsonb,
    }
}
diesel::table! {
    tokens (digest) {
        digest -> Binary, name -> Text, role -> Text, created_at -> Timestamptz, revoked_at -> Nullable<Timestamptz>,
        expires_at -> Nullable<Timestamptz>, owner_provider -> Nullable<Text>, owner_subject -> Nullable<Text>,
        owner_name -> Nullable<Text>, areas -> Nullable<Array<Text>>, used_at -> Nullable<Timestamptz>,
        owner_authority -> Nullable<Text>,
    }
}
diesel::table! {
    sessions (id) {
        id -> Uuid, token_digest -> Binary, provider -> Text, subject -> Text, name -> Text, evidence -> Jsonb,
        began -> Timestamptz, last_seen -> Timestamptz, ended_at -> Nullable<Timestamptz>, ended_by -> Nullable<Text>,
        address -> Text, agent -> Text, hint -> Nullable<Binary>, revocation -> Nullable<BigInt>, re_read -> Nullable<BigInt>,
        provider_name -> Nullable<Text>, provider_session -> Nullable<Text>, personal_token -> Nullable<Uuid>, kept -> Nullable<Binary>,
        authority -> Text, until -> Nullable<Timestamptz>, evidence_version -> BigInt,
    }
}
diesel::table! {
    gate_tokens (digest) {
        digest -> Binary, session_id -> Uuid, gate -> Text, crossing -> Text, decision -> Binary, created_at -> Timestamptz,
        expires_at -> Nullable<Timestamptz>, paths -> Nullable<Array<Text>>, thing -> Nullable<Binary>,
        remember_until -> Nullable<Timestamptz>,
    }
}
diesel::table! {
    codes (digest) {
        digest -> Binary, session_id -> Uuid, gate -> Text, binding -> Binary, target -> Text, crossing -> Text,
        expires_at -> Timestamptz,
    }
}
diesel::table! {
    kept_forms (digest) {
        digest -> Binary, gate -> Text, binding -> Binary, sealed -> Binary, expires_at -> Timestamptz, network -> Text,
    }
}
diesel::table! {
    parked (digest) {
        digest -> Binary, network -> Text, sealed -> Binary, expires_at -> Timestamptz, flow -> Nullable<Binary>,
    }
}
diesel::table! {
    trials (digest) {
        digest -> Binary, provider -> Text, source -> Text, document -> Nullable<Text>, begun_by -> Text, begun -> Timestamptz,
        expires_at -> Timestamptz, result -> Nullable<Binary>,
    }
}
diesel::table! {
    nodes (id) {
        id -> Uuid, name -> Text, seen_at -> Timestamptz, revocation -> BigInt, seals_with -> Integer, guards -> Nullable<Jsonb>,
    }
}
diesel::table! {
    emergency_sessions (digest) { digest -> Binary, address -> Text, began -> Timestamptz, until -> Timestamptz, }
}
diesel::table! { latest (single) { single -> Bool, moment -> Timestamptz, } }
diesel::table! {
    blocks (authority, subject) {
        authority -> Text, subject -> Text, provider -> Text, name -> Text, at -> Timestamptz, by -> Text, why -> Text,
    }
}
diesel::table! { spent (thing) { thing -> Binary, expires_at -> Timestamptz, } }
diesel::table! { unadopted (single) { single -> Bool, } }
diesel::table! { answered (flow) { flow -> Binary, expires_at -> Timestamptz, network -> Nullable<Text>, } }
diesel::table! { revocations (single) { single -> Bool, counter -> BigInt, } }
diesel::table! {
    crossings (day, id) {
        day -> Date, id -> Text, at -> Timestamptz, ended_at -> Timestamptz, gate -> Text, edition -> Integer, node -> Text,
        outcome -> Text, provider -> Nullable<Text>, subject -> Nullable<Text>, person -> Nullable<Text>,
        session_id -> Nullable<Uuid>, address -> Text, method -> Text, target -> Text, steps -> Jsonb,
        deciding -> Nullable<Jsonb>, evidence -> Nullable<Binary>, repeats -> BigInt, requests -> BigInt, bytes_in -> BigInt,
        bytes_out -> BigInt,
    }
}
diesel::table! { evidence (day, hash) { day -> Date, hash -> Binary, body -> Jsonb, } }
diesel::table! {
    provider_flows (provider, minute) { provider -> Text, minute -> Timestamptz, sent -> BigInt, answered -> BigInt, }
}
diesel::table! { unrecorded (minute) { minute -> Timestamptz, attempts -> BigInt, } }
diesel::table! {
    acts (number) {
        number -> BigInt, at -> Timestamptz, what -> Text, about -> Jsonb, personal -> Nullable<Jsonb>, personal_digest -> Binary,
        key -> Integer, mac -> Binary,
    }
}
diesel::table! { acts_head (single) { single -> Bool, number -> BigInt, mac -> Binary, } }
diesel::joinable!(gate_tokens -> sessions (session_id));
diesel::joinable!(codes -> sessions (session_id));
diesel::table! {
    tries (key, span) { key -> Binary, span -> BigInt, count -> Integer, expires_at -> Timestamptz, }
}
diesel::table! {
    person_roles (authority, provider, subject, gate) {
        provider -> Text, subject -> Text, gate -> Text, roles -> Array<Text>, since -> Timestamptz, crossing -> Text,
        seen_at -> Timestamptz, authority -> Text,
    }
}
diesel::table! {
    role_changes (id) {
        id -> Uuid, provider -> Text, subject -> Text, gate -> Text, at -> Timestamptz, crossing -> Text,
        gained -> Array<Text>, lost -> Array<Text>, why -> Jsonb, authority -> Text,
    }
}
diesel::table! { known_names (name, way) { name -> Binary, way -> Text, seen_at -> Timestamptz, } }
diesel::table! {
    mailed_codes (flow) {
        flow -> Binary, code -> Nullable<Binary>, mail -> Binary, tries_left -> SmallInt, expires_at -> Timestamptz,
        network -> Text,
    }
}
diesel::table! {
    factors (id) {
        id -> Uuid, provider -> Text, subject -> Text, kind -> Text, name -> Text, sealed -> Binary,
        credential -> Nullable<Binary>, created_at -> Timestamptz, used_at -> Nullable<Timestamptz>,
        last_step -> Nullable<BigInt>, authority -> Text, unasked -> Bool,
    }
}
diesel::table! {
    recovery_codes (code) { code -> Binary, provider -> Text, subject -> Text, authority -> Text, key -> Integer, }
}
diesel::table! {
    ring_keys (number) { number -> Integer, proof -> Binary, seen_at -> Timestamptz, retired_at -> Nullable<Timestamptz>, }
}
diesel::table! {
    personal_tokens (digest) {
        digest -> Binary, id -> Uuid, provider -> Text, subject -> Text, owner_name -> Text, name -> Text,
        gates -> Array<Text>, paths -> Nullable<Array<Text>>, created_at -> Timestamptz, expires_at -> Timestamptz,
        used_at -> Nullable<Timestamptz>, authority -> Text, unasked -> Bool,
    }
}
diesel::table! {
    device_codes (digest) {
        digest -> Binary, user_code -> Binary, address -> Text, agent -> Text, created_at -> Timestamptz,
        expires_at -> Timestamptz, polled_at -> Nullable<Timestamptz>, state -> Text, role -> Nullable<Text>,
        owner_provider -> Nullable<Text>, owner_subject -> Nullable<Text>, owner_name -> Nullable<Text>, network -> Text,
        owner_authority -> Nullable<Text>,
    }
}
diesel::table! {
    vouches (flow) {
        flow -> Binary, code -> Binary, way -> Text, name -> Text, note -> Text, address -> Text, agent -> Text, network -> Text,
        created_at -> Timestamptz, expires_at -> Timestamptz, state -> Text, sponsor_provider -> Nullable<Text>,
        sponsor_authority -> Nullable<Text>, sponsor_subject -> Nullable<Text>, sponsor_name -> Nullable<Text>,
    }
}
diesel::allow_tables_to_appear_in_same_query!(secrets, secret_versions);
diesel::allow_tables_to_appear_in_same_query!(gate_tokens, sessions, codes);
diesel::table! {
    presences (id) {
        id -> Uuid, session_id -> Nullable<Uuid>, gate -> Text, zone -> Text, node -> Text, interface -> Text,
        hardware -> Nullable<Text>, address -> Text, mark -> Integer, provider -> Text, authority -> Text, subject -> Text,
        name -> Text, crossing -> Text, reach -> Jsonb, began -> Timestamptz, until -> Nullable<Timestamptz>,
        quota -> Nullable<BigInt>, rate -> Nullable<BigInt>, up -> BigInt, down -> BigInt, counted_at -> Timestamptz,
        ended_at -> Nullable<Timestamptz>, ended_by -> Nullable<Text>, groups -> Array<Text>, tunnel -> Nullable<Jsonb>,
    }
}
diesel::table! {
    tunnel_asks (digest) {
        digest -> Binary, node -> Text, gate -> Text, tunnel -> Jsonb, network -> Text, created_at -> Timestamptz,
        expires_at -> Timestamptz, session_id -> Nullable<Uuid>, browser -> Nullable<Text>, refused -> Bool,
        outcome -> Nullable<Jsonb>,
    }
}
diesel::table! {
    entrance_trials (id) {
        id -> Uuid, gate -> Text, entrance -> Text, network -> Nullable<Text>, person -> Nullable<Text>, begun_by -> Text,
        begun -> Timestamptz, expires_at -> Timestamptz, ended_at -> Nullable<Timestamptz>, ended_by -> Nullable<Text>,
        crossings -> Array<Text>,
    }
}
diesel::table! {
    profiles (id) {
        id -> Uuid, gate -> Text, digest -> Binary, provider -> Text, authority -> Text, subject -> Text, name -> Text,
        device -> Text, created_at -> Timestamptz, expires_at -> Timestamptz, used_at -> Nullable<Timestamptz>,
        revoked_at -> Nullable<Timestamptz>, revoked_by -> Nullable<Text>,
    }
}
diesel::table! {
    tunnel_codes (code) { code -> Binary, gate -> Text, session_id -> Uuid, expires_at -> Timestamptz, }
}
diesel::table! {
    passed (gate, at) { gate -> Text, at -> Timestamptz, up -> BigInt, down -> BigInt, }
}
diesel::table! {
    presence_addresses (presence, address, began) {
        presence -> Uuid, address -> Text, began -> Timestamptz, ended_at -> Nullable<Timestamptz>,
    }
}
diesel::table! {
    terms_accepted (gate, version, authority, subject) {
        gate -> Text, version -> Text, authority -> Text, subject -> Text, provider -> Text, name -> Text, address -> Text,
        at -> Timestamptz,
    }
}
diesel::table! {
    radius_sessions (presence) {
        presence -> Uuid, client -> Text, nas -> Text, acct -> Nullable<Text>, sends_from -> Text, known_by -> Jsonb, given -> Jsonb,
        account -> Jsonb, ordered -> Nullable<Jsonb>,
    }
}
diesel::joinable!(radius_sessions -> presences (presence));
diesel::allow_tables_to_appear_in_same_query!(radius_sessions, presences);
