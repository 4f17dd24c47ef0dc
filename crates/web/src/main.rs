//! `ebrel`: see [`ebrel::cli`].

/// Gives memory back after a large upload or export, which the system's allocator keeps.
#[global_allocator]
static ALLOCATOR: tikv_jemallocator::Jemalloc = tikv_jemallocator::Jemalloc;

#[tokio::main]
async fn main() -> std::process::ExitCode {
    ebrel::cli::run().await
}
