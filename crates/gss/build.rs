//! Declares the few functions of libkrb5 that [GSS-API](https://www.rfc-editor.org/rfc/rfc2743) has no words for.

fn main() {
    println!("cargo:rerun-if-changed=build.rs");
    let krb5 = match pkg_config::probe_library("mit-krb5") {
        Ok(found) => found,
        Err(e) => panic!("MIT Kerberos is not found: {e}. Install libkrb5-dev and pkg-config."),
    };
    let made = bindgen::Builder::default()
        .clang_args(krb5.include_paths.iter().map(|p| format!("-I{}", p.display())))
        .header_contents("krb5_only.h", "#include <krb5.h>")
        .allowlist_function("krb5_(init_context|free_context|get_error_message|free_error_message|kt_resolve|kt_close)")
        .allowlist_function("krb5_(decode_ticket|free_ticket|server_decrypt_ticket_keytab|c_decrypt)")
        .allowlist_function(
            "krb5_(cc_resolve|cc_initialize|cc_store_cred|cc_close|cc_destroy|free_creds|get_credentials|get_time_offsets)",
        )
        .allowlist_function("krb5_(parse_name|free_principal|unparse_name|free_unparsed_name)")
        .allowlist_function("krb5_(get_init_creds_password|get_init_creds_keytab|verify_init_creds|free_cred_contents)")
        .allowlist_var("KRB5_VERIFY_INIT_CREDS_OPT_AP_REQ_NOFAIL|KRB5_GC_NO_STORE|TKT_FLG_FORWARDABLE")
        .allowlist_var("KRB5.*(_ERR_|KDC_UNREACH|KT_|REALM_|NO_TKT|CC_|CONFIG_|PREAUTH_|BADOPTION|KDCREP_).*")
        .layout_tests(false)
        .generate();
    let made = match made {
        Ok(made) => made,
        Err(e) => panic!("krb5.h cannot be read: {e}. Install libkrb5-dev and libclang-dev."),
    };
    let to = std::path::PathBuf::from(std::env::var_os("OUT_DIR").unwrap_or_default()).join("krb5.rs");
    if let Err(e) = made.write_to_file(to) {
        panic!("the declarations cannot be written: {e}");
    }
}
