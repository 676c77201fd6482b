//! A RADIUS client that is not ours: eapol_test (Debian's package `eapoltest`),
//! which drops every reply whose authenticators are wrong.
mod running;

use std::fs;
use std::process::Command;

use regnant_campus::Nas;
use regnant_campus::harbour::*;
use running::*;

/// Asks with EAP from a NAS; exit code 253 is a reject that it believed, 254 no answer.
fn eapol_test(service: &Running, nas: &Nas, secret: &str, code: i32) {
    let file = service.data.join("supplicant.conf");
    let network = "network={\n key_mgmt=IEEE8021X\n eap=MD5\n identity=\"ida.marsh\"\n password=\"Tide-Table-61\"\n}\n";
    fs::write(&file, network).unwrap();
    let mut command = Command::new("eapol_test");
    command.arg("-c").arg(&file).args(["-a", "127.0.0.1", "-n", "-t", "4"]);
    command.args(["-p", &service.radius.port().to_string(), "-A", &nas.address.to_string(), "-s", secret]);
    let output = command.output().expect("eapol_test starts; install Debian's eapoltest");
    assert_eq!(output.status.code(), Some(code), "{}", String::from_utf8_lossy(&output.stdout));
}

#[test]
fn a_real_supplicant_believes_our_refusal_and_gets_nothing_under_a_wrong_secret() {
    let service = Running::harbour();
    // No gate accepts EAP yet: the answer is Access-Reject with EAP-Failure.
    eapol_test(&service, &QUAY_SW_1, QUAY_SW_1.secret, 253);
    let told = sentence(&service.entries("q=quay-sw-1", 1)[0]);
    assert_eq!(told, "ida.marsh on quay-sw-1 was refused: gate switch-ports does not accept eap.");
    eapol_test(&service, &GATE_FW_1, "not-the-secret", 254);
    assert!(sentence(&service.entries("outcome=unheard", 1)[0]).contains("the shared secret differs"));
}
