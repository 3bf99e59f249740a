//! Makes code of the definition that the demo has of the vessels.

fn main() -> Result<(), Box<dyn std::error::Error>> {
    println!("cargo::rerun-if-changed=../demo/documents/vessels/vessels-definition");
    let files = [
        "skerry/fleet/v1/fleet.proto",
        "skerry/berths/v1/berths.proto",
    ];
    let mut compiler = protox::Compiler::new([
        "../demo/documents/vessels/vessels-definition",
        "../core/grpc/standard",
    ])?;
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
