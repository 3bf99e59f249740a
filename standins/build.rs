//! Makes code of the vessels' definition.

fn main() -> Result<(), Box<dyn std::error::Error>> {
    println!("cargo::rerun-if-changed=proto");
    let files = [
        "skerry/fleet/v1/fleet.proto",
        "skerry/berths/v1/berths.proto",
    ];
    let mut compiler = protox::Compiler::new(["proto", "../core/grpc/standard"])?;
    compiler
        .include_imports(true)
        .include_source_info(true)
        .open_files(files)?;
    let out = std::path::PathBuf::from(std::env::var("OUT_DIR")?);
    std::fs::write(
        out.join("vessels.bin"),
        compiler.encode_file_descriptor_set(),
    )?;
    tonic_prost_build::configure()
        .build_client(true)
        .compile_fds(compiler.file_descriptor_set())?;
    Ok(())
}
