//! The `ebrel` command.

#[tokio::main]
async fn main() -> std::process::ExitCode {
    ebrel::cli::run().await
}
