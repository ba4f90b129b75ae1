//! Work that may block, beside the threads that serve.

use actix_web::web;
use yantro_engine::EngineError;

use crate::problem::Problem;

/// Reading what is stored may block: not on the threads that serve.
pub(crate) async fn blocking<T: Send + 'static>(f: impl FnOnce() -> Result<T, EngineError> + Send + 'static) -> Result<T, Problem> {
    let outcome =
        web::block(f).await.map_err(|e| Problem::new(500, "internal", "The server has trouble of its own", e.to_string(), "try again"))?;
    Ok(outcome?)
}
