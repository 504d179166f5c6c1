//! The console and the client by TLS, with a certificate that the service makes itself.
#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

use interlex_e2e::{PASSWORD, PERSON, Rig, run};

#[tokio::test(flavor = "multi_thread")]
async fn the_client_trusts_a_self_made_certificate_when_it_is_told_to() {
    let mut rig = Rig::start().await;
    let (url, certificate) = rig.restart_with_tls().await;
    let certificate = certificate.display().to_string();
    let sign_in = ["sign-in", &url, "--name", PERSON, "--password-stdin"];
    let password = format!("{PASSWORD}\n");
    let refused = run(&sign_in, &rig.home(), &password).await;
    assert_eq!(refused.code, 5, "{refused:?}");
    assert!(refused.err.contains("certificate"), "it says what is wrong: {}", refused.err);
    let trusted = run(&[&sign_in[..], &["--ca", &certificate]].concat(), &rig.home(), &password).await;
    assert_eq!(trusted.code, 0, "{}", trusted.err);
    let status = rig.interlex(&["status"]).await;
    assert!(status.code == 0 && status.out.contains("alderfen-1 (revision 1)"), "it is remembered: {status:?}");
}
