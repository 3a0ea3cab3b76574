//! The current tokens in memory: they identify a caller by its secret, and end its streams.
//!
//! Readers take no lock: they load a table that is replaced as a whole when a token changes. A stream is notified if the token that opened it ends,
//! so that a revoked token stops streams too.

use std::{
    collections::HashMap,
    net::IpAddr,
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicI64, AtomicU64, Ordering},
    },
};

use arc_swap::ArcSwap;
use fenetre_core::time::{Nanos, SECOND};
use parking_lot::{Mutex, RwLock};

use crate::{
    error::AccessError,
    rate::Rate,
    records::{Records, StoredSession, StoredToken, Use},
    secret::{Digest, Secret, to_hex},
    token::{Refusal, Rights, Token, TokenState, check_token_name},
};

/// A session ends if nobody used it for this long.
pub const SESSION_UNUSED: Nanos = 12 * 3_600 * SECOND;
/// Use of a session is written at most this often.
const SESSION_WRITTEN: Nanos = 60 * SECOND;

/// A token in use: what lasts from one change of it to the next.
#[derive(Debug)]
pub struct Holder {
    /// The token.
    pub token: Token,
    /// Points against its rate.
    pub points: Rate,
    /// Queries against its rate.
    pub queries: Rate,
    /// Its use.
    pub tally: UseTally,
    has_ended: AtomicBool,
}

/// Counts of the use of a token.
#[derive(Debug, Default)]
pub struct UseTally {
    last: AtomicI64,
    address: Mutex<Option<IpAddr>>,
    pushes: AtomicU64,
    points: AtomicU64,
    queries: AtomicU64,
    is_new: AtomicBool,
}

/// Last use is noted to this.
const MINUTE: Nanos = 60 * SECOND;

impl UseTally {
    fn of(of: Use) -> Self {
        Self {
            last: of.last.into(),
            address: Mutex::new(of.address),
            pushes: of.pushes.into(),
            points: of.points.into(),
            queries: of.queries.into(),
            is_new: false.into(),
        }
    }

    /// Notes a use. The address is looked at once a minute.
    fn note(&self, address: Option<IpAddr>, now: Nanos) {
        // If the clock was set back, uses must not be hidden until it catches up.
        if (now - self.last.load(Ordering::Relaxed)).abs() >= MINUTE {
            self.last.store(now - now.rem_euclid(MINUTE), Ordering::Relaxed);
            *self.address.lock() = address.map(|address| address.to_canonical());
            self.is_new.store(true, Ordering::Relaxed);
        }
    }

    /// Counts points that were stored.
    pub fn count_points(&self, points: u64) {
        self.pushes.fetch_add(1, Ordering::Relaxed);
        self.points.fetch_add(points, Ordering::Relaxed);
        self.is_new.store(true, Ordering::Relaxed);
    }

    /// Counts a query.
    pub fn count_query(&self) {
        self.queries.fetch_add(1, Ordering::Relaxed);
        self.is_new.store(true, Ordering::Relaxed);
    }

    /// The use so far; none if it was never used.
    pub fn so_far(&self) -> Option<Use> {
        let last = self.last.load(Ordering::Relaxed);
        let count = |counted: &AtomicU64| counted.load(Ordering::Relaxed);
        let (pushes, points, queries) = (count(&self.pushes), count(&self.points), count(&self.queries));
        (last > 0).then(|| Use { last, address: *self.address.lock(), pushes, points, queries })
    }
}

/// A secret of a token: its present one, or the one before for a while.
#[derive(Debug)]
pub struct Credential {
    /// The token.
    pub holder: Arc<Holder>,
    until: Option<Nanos>,
    has_ended: AtomicBool,
}

/// A session of the console.
#[derive(Debug)]
pub struct Session {
    /// The token that it is bound to.
    pub holder: Arc<Holder>,
    stored: StoredSession,
    used: AtomicI64,
    written: AtomicI64,
    has_ended: AtomicBool,
}

/// What somebody was recognised by.
#[derive(Clone, Debug)]
pub enum Presented {
    /// The secret of a token.
    Secret(Arc<Credential>),
    /// The cookie of a session.
    Session(Arc<Session>),
}

impl Presented {
    /// The token behind it.
    pub fn holder(&self) -> &Arc<Holder> {
        match self {
            Self::Secret(credential) => &credential.holder,
            Self::Session(session) => &session.holder,
        }
    }

    /// Whether the credential is still valid.
    pub fn is_live(&self, now: Nanos) -> bool {
        let (has_ended, until) = match self {
            Self::Secret(credential) => (&credential.has_ended, credential.until),
            Self::Session(session) => (&session.has_ended, None),
        };
        let holder = self.holder();
        !has_ended.load(Ordering::Relaxed)
            && !holder.has_ended.load(Ordering::Relaxed)
            && until.is_none_or(|until| now < until)
            && !holder.token.has_expired(now)
    }
}

#[derive(Default)]
struct Table {
    by_digest: HashMap<Digest, Arc<Credential>>,
    by_id: HashMap<String, Arc<Holder>>,
}

/// The tokens and sessions of a store.
pub struct Registry {
    records: Records,
    table: ArcSwap<Table>,
    sessions: RwLock<HashMap<Digest, Arc<Session>>>,
    /// The version of the records that the table is of.
    version: Mutex<i64>,
}

impl Registry {
    /// Reads the tokens of a store's records.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn open(records: Records) -> Result<Self, AccessError> {
        let version = records.version()?;
        let uses = records.uses()?;
        let registry = Self { records, table: ArcSwap::default(), sessions: RwLock::default(), version: Mutex::new(version) };
        registry.load(|id| UseTally::of(uses.get(id).copied().unwrap_or_default()))?;
        Ok(registry)
    }

    /// The records.
    pub fn records(&self) -> &Records {
        &self.records
    }

    /// Reads the tokens again, if another process has changed them.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn refresh(&self) -> Result<(), AccessError> {
        let mut known = self.version.lock();
        let version = self.records.version()?;
        if *known != version {
            self.reload()?;
            *known = version;
        }
        Ok(())
    }

    /// Reads the tokens again. Streams of tokens that no longer work end.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn reload(&self) -> Result<(), AccessError> {
        self.load(|_| UseTally::default())
    }

    fn load(&self, first_use: impl Fn(&str) -> UseTally) -> Result<(), AccessError> {
        let stored = self.records.tokens()?;
        let before = self.table.load();
        let mut table = Table::default();
        for StoredToken { token, digest, old } in stored {
            let known = before.by_id.get(&token.id);
            let holder = match known {
                Some(known) if known.token == token => Arc::clone(known),
                _ => {
                    let tally = known.map_or_else(|| first_use(&token.id), |known| UseTally::of(known.tally.so_far().unwrap_or_default()));
                    let ended = token.state != TokenState::Active;
                    let (points, queries) = (Rate::default(), Rate::default());
                    Arc::new(Holder { token, points, queries, tally, has_ended: ended.into() })
                }
            };
            for (digest, until) in std::iter::once((digest, None)).chain(old.map(|(digest, until)| (digest, Some(until)))) {
                let same = before.by_digest.get(&digest).filter(|known| known.until == until && Arc::ptr_eq(&known.holder, &holder));
                let fresh = || Arc::new(Credential { holder: Arc::clone(&holder), until, has_ended: false.into() });
                table.by_digest.insert(digest, same.map_or_else(fresh, Arc::clone));
            }
            table.by_id.insert(holder.token.id.clone(), holder);
        }
        for (digest, credential) in &before.by_digest {
            let is_same = table.by_digest.get(digest).is_some_and(|now| Arc::ptr_eq(now, credential));
            // A resumed token has a new holder: streams from before its suspension have ended.
            credential.has_ended.store(!is_same, Ordering::Relaxed);
        }
        for (id, holder) in &before.by_id {
            let is_same = table.by_id.get(id).is_some_and(|now| Arc::ptr_eq(now, holder));
            holder.has_ended.fetch_or(!is_same, Ordering::Relaxed);
        }
        let sessions = self.sessions_of(&table)?;
        self.table.store(Arc::new(table));
        let ended = std::mem::replace(&mut *self.sessions.write(), sessions);
        let current = self.sessions.read();
        let is_gone = |session: &&Arc<Session>| current.get(&session.stored.digest).is_none_or(|now| !Arc::ptr_eq(now, session));
        ended.values().filter(is_gone).for_each(|session| session.has_ended.store(true, Ordering::Relaxed));
        Ok(())
    }

    fn sessions_of(&self, table: &Table) -> Result<HashMap<Digest, Arc<Session>>, AccessError> {
        let known = self.sessions.read();
        let session = |stored: StoredSession| {
            let holder = table.by_id.get(&stored.token).filter(|holder| holder.token.state == TokenState::Active)?;
            let same = known.get(&stored.digest).filter(|known| Arc::ptr_eq(&known.holder, holder));
            Some((stored.digest, same.map_or_else(|| Arc::new(Session::of(stored, Arc::clone(holder))), Arc::clone)))
        };
        Ok(self.records.sessions()?.into_iter().filter_map(session).collect())
    }

    /// Who has a secret, at an instant and from an address.
    ///
    /// # Errors
    /// [`Refusal`].
    pub fn recognise(&self, secret: &Secret, address: Option<IpAddr>, now: Nanos) -> Result<Presented, Refusal> {
        let digest = secret.digest();
        let table = self.table.load();
        // The table compares the digest of a secret that has 256 random bits: the time that this takes reveals nothing about a secret.
        let (known, credential) = table.by_digest.get_key_value(&digest).ok_or(Refusal::Unknown)?;
        if !known.is(&digest) {
            return Err(Refusal::Unknown);
        }
        let token = &credential.holder.token;
        if credential.until.is_some_and(|until| until <= now) && token.state == TokenState::Active {
            return Err(Refusal::Rotated { name: token.name.clone() });
        }
        token.admit(address, now)?;
        credential.holder.tally.note(address, now);
        Ok(Presented::Secret(Arc::clone(credential)))
    }

    /// The session of a cookie's content; none if it has ended.
    ///
    /// # Errors
    /// [`Refusal`] of the token that it is bound to.
    pub fn session(&self, secret: &Secret, address: Option<IpAddr>, now: Nanos) -> Result<Option<Presented>, Refusal> {
        let Some(session) = self.sessions.read().get(&secret.digest()).cloned() else { return Ok(None) };
        if now - session.used.load(Ordering::Relaxed) > SESSION_UNUSED {
            return Ok(None);
        }
        session.holder.token.admit(address, now)?;
        session.holder.tally.note(address, now);
        session.used.store(now, Ordering::Relaxed);
        Ok(Some(Presented::Session(session)))
    }

    /// Begins a session bound to a token, and returns the content of its cookie.
    ///
    /// # Errors
    /// If it cannot be kept.
    pub fn begin_session(&self, holder: &Arc<Holder>, now: Nanos) -> Result<Secret, AccessError> {
        let secret = Secret::random()?;
        let stored = StoredSession { digest: secret.digest(), token: holder.token.id.clone(), begun: now, used: now };
        self.records.keep_session(&stored)?;
        self.sessions.write().insert(stored.digest, Arc::new(Session::of(stored, Arc::clone(holder))));
        Ok(secret)
    }

    /// Ends a session.
    ///
    /// # Errors
    /// If that cannot be kept.
    pub fn end_session(&self, session: &Session) -> Result<(), AccessError> {
        self.records.end_session(session.stored.digest)?;
        session.has_ended.store(true, Ordering::Relaxed);
        self.sessions.write().remove(&session.stored.digest);
        Ok(())
    }

    /// All tokens, by name and age.
    pub fn tokens(&self) -> Vec<Arc<Holder>> {
        let mut all: Vec<Arc<Holder>> = self.table.load().by_id.values().cloned().collect();
        all.sort_by(|a, b| (&a.token.name, a.token.created).cmp(&(&b.token.name, b.token.created)));
        all
    }

    /// The token of a name or an id, if it was not revoked.
    ///
    /// # Errors
    /// [`AccessError::NoToken`].
    pub fn token(&self, name: &str) -> Result<Arc<Holder>, AccessError> {
        find(self.table.load().by_id.values(), |holder| &holder.token, name).cloned()
    }

    /// Whether there is a token that works.
    pub fn has_tokens(&self, now: Nanos) -> bool {
        self.table.load().by_id.values().any(|holder| holder.token.state == TokenState::Active && !holder.token.has_expired(now))
    }

    /// Makes a token, and returns it with its secret.
    ///
    /// # Errors
    /// If there can be no such token, or it cannot be kept.
    pub fn create(&self, name: &str, rights: Rights, expires: Option<Nanos>, now: Nanos) -> Result<(Token, Secret), AccessError> {
        let made = create(&self.records, name, rights, expires, now)?;
        self.reload()?;
        Ok(made)
    }

    /// Gives a token a new secret, and returns it. The old secret works until `old_until`.
    ///
    /// # Errors
    /// If there is no such token, or it cannot be kept.
    pub fn rotate(&self, name: &str, old_until: Nanos) -> Result<(Token, Secret), AccessError> {
        let rotated = rotate(&self.records, name, old_until)?;
        self.reload()?;
        Ok(rotated)
    }

    /// Suspends, resumes or revokes a token.
    ///
    /// # Errors
    /// If there is no such token, or it cannot be kept.
    pub fn set_state(&self, name: &str, state: TokenState) -> Result<Token, AccessError> {
        let token = set_state(&self.records, name, state)?;
        self.reload()?;
        Ok(token)
    }

    /// Writes uses that are not yet written.
    ///
    /// # Errors
    /// If they cannot be written; they are written the next time.
    pub fn keep_uses(&self) -> Result<(), AccessError> {
        let table = self.table.load();
        let fresh: Vec<&Arc<Holder>> = table.by_id.values().filter(|holder| holder.tally.is_new.swap(false, Ordering::Relaxed)).collect();
        let uses = fresh.iter().filter_map(|holder| Some((holder.token.id.as_str(), holder.tally.so_far()?)));
        if !fresh.is_empty()
            && let Err(error) = self.records.keep_uses(uses)
        {
            fresh.iter().for_each(|holder| holder.tally.is_new.store(true, Ordering::Relaxed));
            return Err(error);
        }
        let sessions: Vec<Arc<Session>> = self.sessions.read().values().cloned().collect();
        for session in sessions {
            let (used, written) = (session.used.load(Ordering::Relaxed), session.written.load(Ordering::Relaxed));
            if used - written >= SESSION_WRITTEN {
                self.records.keep_session(&StoredSession { used, ..session.stored.clone() })?;
                session.written.store(used, Ordering::Relaxed);
            }
        }
        Ok(())
    }
}

impl Session {
    fn of(stored: StoredSession, holder: Arc<Holder>) -> Self {
        Self { holder, used: stored.used.into(), written: stored.used.into(), has_ended: false.into(), stored }
    }
}

fn find<'t, T>(all: impl Iterator<Item = &'t T>, token: impl Fn(&T) -> &Token, name: &str) -> Result<&'t T, AccessError> {
    let found = all.filter(|one| token(one).state != TokenState::Revoked).find(|one| token(one).name == name || token(one).id == name);
    found.ok_or_else(|| AccessError::NoToken { name: name.to_owned() })
}

/// Makes a token in the records of a store, served or not.
///
/// # Errors
/// If there can be no such token, or it cannot be kept.
pub fn create(records: &Records, name: &str, rights: Rights, expires: Option<Nanos>, now: Nanos) -> Result<(Token, Secret), AccessError> {
    check_token_name(name)?;
    rights.check()?;
    if expires.is_some_and(|expires| expires <= now) {
        return Err(AccessError::Invalid("the token would have expired already: choose a later time".to_owned()));
    }
    let secret = Secret::random()?;
    let mut id = [0; 4];
    getrandom::fill(&mut id)?;
    let id = format!("t{}", to_hex(&id));
    let token = Token { id, name: name.to_owned(), rights, created: now, expires, state: TokenState::Active };
    records.add_token(&token, secret.digest())?;
    Ok((token, secret))
}

/// Gives a token of a store's records a new secret.
///
/// # Errors
/// If there is no such token, or it cannot be kept.
pub fn rotate(records: &Records, name: &str, old_until: Nanos) -> Result<(Token, Secret), AccessError> {
    let all = records.tokens()?;
    let token = find(all.iter(), |stored| &stored.token, name)?.token.clone();
    let secret = Secret::random()?;
    records.rotate_token(&token.id, secret.digest(), old_until)?;
    Ok((token, secret))
}

/// Suspends, resumes or revokes a token of a store's records, and returns it as it is now.
///
/// # Errors
/// If there is no such token, or it cannot be kept.
pub fn set_state(records: &Records, name: &str, state: TokenState) -> Result<Token, AccessError> {
    let all = records.tokens()?;
    let token = find(all.iter(), |stored| &stored.token, name)?.token.clone();
    records.set_token_state(&token.id, state)?;
    Ok(Token { state, ..token })
}

#[cfg(test)]
mod tests {
    use super::*;

    const NOW: Nanos = 1_000 * SECOND;

    fn registry() -> (tempfile::TempDir, Registry) {
        let folder = tempfile::tempdir().unwrap();
        let registry = Registry::open(Records::open(folder.path()).unwrap()).unwrap();
        (folder, registry)
    }

    fn rights(grant: &str) -> Rights {
        Rights { grants: vec![grant.parse().unwrap()], ..Rights::default() }
    }

    #[test]
    fn a_secret_opens_what_its_token_allows_until_it_is_revoked() {
        let (_folder, registry) = registry();
        assert!(!registry.has_tokens(NOW));
        let (token, secret) = registry.create("gateway", rights("write:velmar"), None, NOW).unwrap();
        let opened = registry.recognise(&secret, None, NOW).unwrap();
        assert_eq!((opened.holder().token.id.as_str(), opened.is_live(NOW), registry.has_tokens(NOW)), (token.id.as_str(), true, true));
        assert_eq!(registry.recognise(&Secret::random().unwrap(), None, NOW).unwrap_err(), Refusal::Unknown);
        registry.set_state("gateway", TokenState::Suspended).unwrap();
        assert!(!opened.is_live(NOW) && matches!(registry.recognise(&secret, None, NOW), Err(Refusal::Suspended { .. })));
        registry.set_state("gateway", TokenState::Active).unwrap();
        // What was open when it was suspended stays closed; the secret opens again.
        assert!(!opened.is_live(NOW) && registry.recognise(&secret, None, NOW).unwrap().is_live(NOW));
        registry.set_state(&token.id, TokenState::Revoked).unwrap();
        assert!(matches!(registry.recognise(&secret, None, NOW), Err(Refusal::Revoked { .. })));
        assert_eq!(registry.token("gateway").unwrap_err().to_string(), "there is no token `gateway`: `fenetre token list` shows them");
    }

    #[test]
    fn a_rotated_token_has_two_secrets_for_a_while() {
        let (_folder, registry) = registry();
        let (_, old) = registry.create("board", rights("read"), None, NOW).unwrap();
        let stream = registry.recognise(&old, None, NOW).unwrap();
        let (_, new) = registry.rotate("board", NOW + 60 * SECOND).unwrap();
        assert!(registry.recognise(&new, None, NOW).is_ok());
        let by_old = registry.recognise(&old, None, NOW).unwrap();
        assert!(by_old.is_live(NOW + 59 * SECOND) && !by_old.is_live(NOW + 60 * SECOND));
        assert_eq!(registry.recognise(&old, None, NOW + 60 * SECOND).unwrap_err(), Refusal::Rotated { name: "board".to_owned() });
        assert!(!stream.is_live(NOW + 60 * SECOND));
    }

    #[test]
    fn sessions_end_with_their_token_and_by_themselves() {
        let (folder, registry) = registry();
        let (_, secret) = registry.create("board", rights("read"), None, NOW).unwrap();
        let holder = Arc::clone(registry.recognise(&secret, None, NOW).unwrap().holder());
        let cookie = registry.begin_session(&holder, NOW).unwrap();
        let opened = registry.session(&cookie, None, NOW).unwrap().unwrap();
        assert!(opened.is_live(NOW) && registry.session(&Secret::random().unwrap(), None, NOW).unwrap().is_none());
        // It survives a restart.
        let again = Registry::open(Records::open(folder.path()).unwrap()).unwrap();
        assert!(again.session(&cookie, None, NOW).unwrap().is_some());
        assert!(again.session(&cookie, None, NOW + SESSION_UNUSED + 1).unwrap().is_none());
        registry.set_state("board", TokenState::Revoked).unwrap();
        assert!(registry.session(&cookie, None, NOW).unwrap().is_none() && !opened.is_live(NOW));
        // The other registry plays another process.
        again.refresh().unwrap();
        assert!(again.session(&cookie, None, NOW).unwrap().is_none());
    }

    #[test]
    fn a_session_that_was_ended_opens_nothing() {
        let (_folder, registry) = registry();
        let (_, secret) = registry.create("board", rights("read"), None, NOW).unwrap();
        let holder = Arc::clone(registry.recognise(&secret, None, NOW).unwrap().holder());
        let cookie = registry.begin_session(&holder, NOW).unwrap();
        let opened = registry.session(&cookie, None, NOW).unwrap().unwrap();
        let Presented::Session(session) = &opened else { panic!("a session") };
        registry.end_session(session).unwrap();
        assert!(!opened.is_live(NOW) && registry.session(&cookie, None, NOW).unwrap().is_none());
        assert!(registry.records().sessions().unwrap().is_empty());
    }

    #[test]
    fn uses_are_counted_and_kept() {
        let (folder, registry) = registry();
        let (token, secret) = registry.create("gateway", rights("write"), Some(NOW + SECOND), NOW).unwrap();
        let opened = registry.recognise(&secret, Some("192.0.2.7".parse().unwrap()), NOW).unwrap();
        opened.holder().tally.count_points(500);
        registry.keep_uses().unwrap();
        let again = Registry::open(Records::open(folder.path()).unwrap()).unwrap();
        let used = again.token(&token.id).unwrap().tally.so_far().unwrap();
        assert_eq!((used.last, used.pushes, used.points), (NOW - NOW.rem_euclid(MINUTE), 1, 500));
        assert_eq!(used.address.unwrap().to_string(), "192.0.2.7");
        assert!(!opened.is_live(NOW + SECOND) && !again.has_tokens(NOW + SECOND));
    }

    #[test]
    fn tokens_that_cannot_be_are_refused() {
        let (_folder, registry) = registry();
        let message = |made: Result<_, AccessError>| made.map(|_: (Token, Secret)| ()).unwrap_err().to_string();
        assert!(message(registry.create("two words", rights("read"), None, NOW)).contains("invalid token name"));
        assert!(message(registry.create("board", Rights::default(), None, NOW)).contains("needs a grant"));
        assert!(message(registry.create("board", rights("read"), Some(NOW), NOW)).contains("would have expired already"));
        assert!(message(registry.rotate("board", NOW)).contains("no token `board`"));
    }
}
