//! `passeur route`.

use passeur_api::{Route, RouteTried, TryRoutes};

use super::crossings::step_lines;
use super::site::source;
use super::{list, no_csv};
use crate::args::{ClientArgs, Output, RouteCommand};
use crate::client::Client;
use crate::exit::Exit;
use crate::output::{Cell, Screen, Tone, fixed, json, rest};

pub async fn run(args: RouteCommand, c: &ClientArgs) -> Result<(), Exit> {
    let client = Client::new(c)?;
    match args {
        RouteCommand::List => {
            let routes: Vec<Route> = client.get("/routes", &[]).await?;
            let rows: Vec<Vec<Cell>> = routes
                .iter()
                .enumerate()
                .map(|(i, r)| vec![(i + 1).to_string().into(), r.name.clone().into(), r.sentence.clone().into()])
                .collect();
            let none = "no sign-in route: people choose among the ways in of a gate, and their browser remembers";
            list(c, &routes, &[fixed("#"), fixed("route"), rest("decides")], &rows, none)
        }
        RouteCommand::Try { source: of, gate, address, agent, name } => {
            no_csv(c)?;
            let ask = TryRoutes { source: source(&of)?, gate, address, agent, name };
            let tried: RouteTried = client.post("/routes/try", &ask).await?;
            if c.output == Output::Json {
                return json(&tried);
            }
            show(&Screen::of_stdout(), &tried);
            Ok(())
        }
    }
}

fn show(s: &Screen, tried: &RouteTried) {
    let ways = tried.ways.join(", ");
    let strong = |text: &str| s.paint(text, Tone::Strong);
    match (&tried.route, tried.name_wanted) {
        (_, true) => say!("{}; without one, open are: {ways}", strong("asked for a name first")),
        (Some(route), _) if tried.asked => say!("{}: asked which of {ways}", strong(route)),
        (Some(route), _) => say!("{}: {ways}", strong(route)),
        (None, _) => say!("{}: {ways}", strong("no route fits")),
    }
    say!("by {}", tried.source);
    for step in &tried.steps {
        say!("{}", step_lines(s, step));
    }
}
