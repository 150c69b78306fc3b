//! Prints the API's description: `cargo run -p ordotaxis-service --example openapi > docs/openapi.json`.
fn main() {
    println!("{}", ordotaxis_service::openapi());
}
