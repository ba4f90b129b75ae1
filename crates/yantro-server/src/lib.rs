//! The API, the event stream, the console's files, and who may use them.
//!
//! Thin: what is asked is handed to the engine, and what it answers is made into JSON. The one place
//! where errors become HTTP is [`problem`]; the one place that says what there is, [`openapi`].

mod access;
mod api;
mod assets;
mod blocking;
mod follow;
pub mod openapi;
pub mod problem;
mod stamps;
mod stream;
pub mod wire;

use std::{net::TcpListener, path::PathBuf};

use actix_web::{App, HttpServer, dev::Server, middleware::from_fn, web};
use yantro_engine::Engine;

pub use access::{Access, AccessError};

/// Makes the server. It runs once the returned value is awaited.
///
/// The listener must be bound to a loopback address: nobody is let in from another machine.
pub fn server(engine: Engine, access: Access, listener: TcpListener) -> std::io::Result<Server> {
    let (engine, access) = (web::Data::new(engine), web::Data::new(access));
    let server = HttpServer::new(move || {
        App::new()
            .app_data(engine.clone())
            .app_data(access.clone())
            .app_data(web::JsonConfig::default().limit(yantro_core::text::MAX_BYTES * 2).error_handler(|e, _| problem::bad_body(&e).into()))
            .app_data(web::QueryConfig::default().error_handler(|e, _| problem::bad_query(&e).into()))
            .app_data(web::PathConfig::default().error_handler(|e, _| problem::bad_path(&e).into()))
            .service(web::scope("/api/v1").wrap(from_fn(access::guard)).configure(api::routes).default_service(web::to(api::not_found)))
            .route("/sign-in", web::get().to(access::sign_in))
            .service(web::scope("").wrap(actix_web::middleware::Compress::default()).default_service(web::get().to(assets::file)))
    })
    .workers(2)
    .shutdown_timeout(2)
    .disable_signals()
    .listen(listener)?;
    Ok(server.run())
}

/// The file that holds the token of a data folder.
pub fn token_path(data: &std::path::Path) -> PathBuf {
    data.join("token")
}
