//! `fenetre token`, `login`, `logout` and `whoami`.

use fenetre_wire::access::{CallerInfo, CallerKind, CreatedToken, RotateOrder, TokenInfo, TokenLimits, TokenOrder, TokenState};

use crate::{
    args::{ListOutput, LoginArgs, LogoutArgs, TokenArgs, TokenCommand, WhoamiArgs},
    client::{Client, connect},
    failure::{FAILED, Failure, WRONG},
    output::{
        list::{Column, write},
        words::{grouped, minute},
    },
    profiles::{self, Profile},
    typed::typed_secret,
};

/// Runs a command about tokens.
pub fn run(args: TokenArgs) -> Result<(), Failure> {
    let client = Client::of(&args.service)?;
    match args.command.unwrap_or(TokenCommand::List { all: false }) {
        TokenCommand::List { all } => list(client.tokens()?, all, args.output),
        command @ TokenCommand::Create { .. } => show_created(&client.create_token(&order(command))?, args.output),
        TokenCommand::Rotate { name, overlap } => show_created(&client.rotate_token(&name, &RotateOrder { overlap })?, args.output),
        TokenCommand::Suspend { name } => show_state(&client.suspend_token(&name)?),
        TokenCommand::Resume { name } => show_state(&client.resume_token(&name)?),
        TokenCommand::Revoke { name } => show_state(&client.revoke_token(&name)?),
    }
}

/// What a command line orders.
pub fn order(command: TokenCommand) -> TokenOrder {
    let TokenCommand::Create {
        name,
        grants,
        metrics,
        networks,
        expires,
        query_seconds,
        query_series,
        query_points,
        points_per_second,
        queries_per_second,
    } = command
    else {
        return TokenOrder::default();
    };
    let limits = TokenLimits { query_seconds, query_series, query_points, points_per_second, queries_per_second };
    TokenOrder { name, grants, metrics, networks, expires, limits }
}

/// Lists tokens.
pub fn list(mut tokens: Vec<TokenInfo>, all: bool, output: ListOutput) -> Result<(), Failure> {
    tokens.retain(|token| all || token.state != TokenState::Revoked);
    write(&tokens, &columns(), output)?;
    if tokens.is_empty() && output == ListOutput::Table {
        noteln!("create one with `fenetre token create NAME --grant read:DATASET`");
    }
    Ok(())
}

fn columns() -> Vec<Column<TokenInfo>> {
    let plain = |name, plain| Column { name, right: false, text: plain, plain };
    vec![
        plain("token", |token: &TokenInfo| token.name.clone()),
        plain("grants", |token: &TokenInfo| token.grants.join(", ")),
        plain("state", |token: &TokenInfo| token.state.as_str().to_owned()),
        Column {
            name: "expires",
            right: false,
            text: |token| if token.expires.is_some() { minute(token.expires.as_ref()) } else { "never".to_owned() },
            plain: |token| token.expires.clone().unwrap_or_default(),
        },
        Column {
            name: "last used",
            right: false,
            text: |token| if token.last_used.is_some() { minute(token.last_used.as_ref()) } else { "never".to_owned() },
            plain: |token| token.last_used.clone().unwrap_or_default(),
        },
        plain("from", |token: &TokenInfo| token.last_address.clone().unwrap_or_default()),
        Column { name: "points", right: true, text: |token| grouped(token.points), plain: |token| token.points.to_string() },
        Column { name: "queries", right: true, text: |token| grouped(token.queries), plain: |token| token.queries.to_string() },
        plain("limits", |token: &TokenInfo| limits(token)),
    ]
}

/// What narrows a token, in words.
fn limits(token: &TokenInfo) -> String {
    let mut parts = Vec::from_iter(Some(limit_words(token.limits)).filter(|words| !words.is_empty()));
    parts.extend((!token.metrics.is_empty()).then(|| format!("metrics {}", token.metrics.join(", "))));
    parts.extend((!token.networks.is_empty()).then(|| format!("from {}", token.networks.join(", "))));
    parts.join("; ")
}

/// Writes a secret to standard output, so that it can be redirected, and what it is to standard error.
pub fn show_created(created: &CreatedToken, output: ListOutput) -> Result<(), Failure> {
    if output == ListOutput::Json {
        outln!("{}", serde_json::to_string_pretty(created)?);
        return Ok(());
    }
    let TokenInfo { name, grants, expires, .. } = &created.token;
    let until = expires.as_ref().map_or_else(|| "it does not expire".to_owned(), |_| format!("it expires at {} (UTC)", minute(expires.as_ref())));
    noteln!("token {name} with {}; {until}. Its secret is shown only now:", grants.join(", "));
    outln!("{}", created.secret);
    created.notes.iter().for_each(|note| noteln!("{note}"));
    Ok(())
}

/// Shows what became of a token.
pub fn show_state(token: &TokenInfo) -> Result<(), Failure> {
    outln!("token {} is {}", token.name, token.state.as_str());
    Ok(())
}

/// Stores a profile, after the service has recognised the token.
pub fn login(args: &LoginArgs) -> Result<(), Failure> {
    let service = &args.service;
    if service.url.is_some() && std::env::var_os("FENETRE_URL").is_none() {
        return Err(Failure::new(WRONG, "`fenetre login` takes the address as its argument, without --url"));
    }
    let token = match connect::token(service)? {
        Some(token) => Some(token),
        None => Some(typed_secret("token")?.trim().to_owned()).filter(|token| !token.is_empty()),
    };
    let absolute = |file: &std::path::PathBuf| std::path::absolute(file).map_err(|error| Failure::new(WRONG, error.to_string()));
    let ca = service.ca.as_ref().map(absolute).transpose()?;
    let profile = Profile { url: args.address.trim_end_matches('/').to_owned(), token, ca, fingerprint: service.fingerprint.clone() };
    let caller = Client::by(&profile)?.whoami()?;
    let name = service.profile.as_deref().unwrap_or(profiles::DEFAULT);
    let file = profiles::file()?;
    let mut all = profiles::all(&file)?;
    all.insert(name.to_owned(), profile);
    profiles::write(&file, &all)?;
    outln!("profile {name}: {} with {}", caller.who, caller.grants.join(", "));
    let option = if name == profiles::DEFAULT { String::new() } else { format!(" --profile {name}") };
    noteln!("try `fenetre datasets{option}`");
    Ok(())
}

/// Removes a profile.
pub fn logout(args: &LogoutArgs) -> Result<(), Failure> {
    let file = profiles::file()?;
    let mut all = profiles::all(&file)?;
    if all.remove(&args.profile).is_none() {
        return Err(Failure::new(FAILED, format!("there is no profile `{}` in {}", args.profile, file.display())));
    }
    profiles::write(&file, &all)?;
    outln!("profile {} is removed; the token itself still works until it is revoked", args.profile);
    Ok(())
}

/// Shows the caller.
pub fn whoami(args: &WhoamiArgs) -> Result<(), Failure> {
    let profile = connect::chosen(&args.service)?;
    let caller = Client::by(&profile)?.whoami()?;
    if args.json {
        outln!("{}", serde_json::to_string_pretty(&caller)?);
        return Ok(());
    }
    let CallerInfo { who, kind, grants, metrics, limits, expires, address, is_open } = caller;
    let how = match kind {
        CallerKind::Machine => "without a token",
        CallerKind::Token => "by token",
        CallerKind::Session => "by a session",
    };
    outln!("{who}, {how}, at {}", profile.url);
    outln!("  grants   {}", grants.join(", "));
    if !metrics.is_empty() {
        outln!("  metrics  {}", metrics.join(", "));
    }
    if limits != TokenLimits::default() {
        outln!("  limits   {}", limit_words(limits));
    }
    outln!("  expires  {}", if expires.is_some() { minute(expires.as_ref()) } else { "never".to_owned() });
    outln!("  address  {}", address.unwrap_or_else(|| "hidden by a proxy".to_owned()));
    if is_open {
        outln!("  note     callers on the machine of the service need no token");
    }
    Ok(())
}

fn limit_words(limits: TokenLimits) -> String {
    let named = [
        (limits.query_seconds, "s a query"),
        (limits.query_series, "series a query"),
        (limits.query_points, "points a query"),
        (limits.points_per_second, "points/s"),
        (limits.queries_per_second, "queries/s"),
    ];
    named.into_iter().filter_map(|(count, words)| Some(format!("{} {words}", grouped(count?)))).collect::<Vec<_>>().join("; ")
}
