//! WLAN and LAN profiles (XML).

use quick_xml::escape::escape;
use sha1::{Digest, Sha1};

use crate::network::{Inner, Method, Network, Profile, ProfileError};

pub(crate) fn profile(network: &Network) -> Result<Profile, ProfileError> {
    let eap = eap_host_config(network)?;
    let one_x = format!(
        "<OneX xmlns=\"http://www.microsoft.com/networking/OneX/v1\"><cacheUserData>true</cacheUserData>\
         <authMode>{}</authMode><EAPConfig>{eap}</EAPConfig></OneX>",
        if matches!(network.method, Method::Teap(_)) { "machineOrUser" } else { "user" }
    );
    let text = match &network.ssid {
        Some(ssid) => {
            let name = escape(ssid.as_str());
            let hex: String = ssid.bytes().map(|byte| format!("{byte:02X}")).collect();
            format!(
                "<?xml version=\"1.0\"?>\n<WLANProfile xmlns=\"http://www.microsoft.com/networking/WLAN/profile/v1\">\
                 <name>{name}</name><SSIDConfig><SSID><hex>{hex}</hex><name>{name}</name></SSID></SSIDConfig>\
                 <connectionType>ESS</connectionType><connectionMode>auto</connectionMode><MSM><security>\
                 <authEncryption><authentication>WPA2</authentication><encryption>AES</encryption>\
                 <useOneX>true</useOneX></authEncryption>{one_x}</security></MSM></WLANProfile>\n"
            )
        }
        None => format!(
            "<?xml version=\"1.0\"?>\n<LANProfile xmlns=\"http://www.microsoft.com/networking/LAN/profile/v1\"><MSM>\
             <security><OneXEnforced>true</OneXEnforced><OneXEnabled>true</OneXEnabled>{one_x}</security></MSM>\
             </LANProfile>\n"
        ),
    };
    Ok(Profile { file: network.file(".xml"), media_type: "application/xml", text })
}

fn eap_host_config(network: &Network) -> Result<String, ProfileError> {
    const NOT_THERE: ProfileError = ProfileError::NotThere { platform: "this platform", what: "this inner method" };
    let config = match network.method {
        Method::Tls => tls(network),
        Method::Peap(Inner::MsChapV2) => peap(network, &mschapv2()),
        Method::Peap(Inner::Tls) => peap(network, &tls(network)),
        Method::Ttls(inner) => ttls(network, inner).ok_or(NOT_THERE)?,
        Method::Teap(Inner::MsChapV2) => teap(network, &mschapv2()),
        Method::Teap(Inner::Tls) => teap(network, &tls(network)),
        Method::Peap(_) | Method::Teap(_) => return Err(NOT_THERE),
    };
    // Who wrote the method: nobody for the system's own, 311 for the two it added.
    let author = if matches!(network.method, Method::Ttls(_) | Method::Teap(_)) { 311 } else { 0 };
    Ok(format!(
        "<EapHostConfig xmlns=\"http://www.microsoft.com/provisioning/EapHostConfig\"><EapMethod>\
         <Type xmlns=\"http://www.microsoft.com/provisioning/EapCommon\">{}</Type>\
         <VendorId xmlns=\"http://www.microsoft.com/provisioning/EapCommon\">0</VendorId>\
         <VendorType xmlns=\"http://www.microsoft.com/provisioning/EapCommon\">0</VendorType>\
         <AuthorId xmlns=\"http://www.microsoft.com/provisioning/EapCommon\">{author}</AuthorId></EapMethod>\
         <Config xmlns=\"http://www.microsoft.com/provisioning/EapHostConfig\">{config}</Config></EapHostConfig>",
        network.method.number()
    ))
}

/// SHA-1 of each authority, as the system's certificate store names it.
fn thumbprints(network: &Network) -> String {
    let one = |der: &Vec<u8>| {
        let digest: Vec<_> = Sha1::digest(der).iter().map(|byte| format!("{byte:02x}")).collect();
        format!("<TrustedRootCA>{}</TrustedRootCA>", digest.join(" "))
    };
    network.authorities.iter().map(one).collect()
}

fn server(network: &Network) -> String {
    format!(
        "<ServerValidation><DisableUserPromptForServerValidation>true</DisableUserPromptForServerValidation>\
         <ServerNames>{}</ServerNames>{}</ServerValidation>",
        escape(network.server.as_str()),
        thumbprints(network)
    )
}

fn tls(network: &Network) -> String {
    format!(
        "<Eap xmlns=\"http://www.microsoft.com/provisioning/BaseEapConnectionPropertiesV1\"><Type>13</Type>\
         <EapType xmlns=\"http://www.microsoft.com/provisioning/EapTlsConnectionPropertiesV1\"><CredentialsSource>\
         <CertificateStore><SimpleCertSelection>true</SimpleCertSelection></CertificateStore></CredentialsSource>{}\
         <DifferentUsername>false</DifferentUsername></EapType></Eap>",
        server(network)
    )
}

fn mschapv2() -> String {
    "<Eap xmlns=\"http://www.microsoft.com/provisioning/BaseEapConnectionPropertiesV1\"><Type>26</Type>\
     <EapType xmlns=\"http://www.microsoft.com/provisioning/MsChapV2ConnectionPropertiesV1\">\
     <UseWinLogonCredentials>false</UseWinLogonCredentials></EapType></Eap>"
        .to_owned()
}

fn peap(network: &Network, inner: &str) -> String {
    format!(
        "<Eap xmlns=\"http://www.microsoft.com/provisioning/BaseEapConnectionPropertiesV1\"><Type>25</Type>\
         <EapType xmlns=\"http://www.microsoft.com/provisioning/MsPeapConnectionPropertiesV1\">{}\
         <FastReconnect>true</FastReconnect><InnerEapOptional>false</InnerEapOptional>{inner}\
         <EnableQuarantineChecks>false</EnableQuarantineChecks><RequireCryptoBinding>true</RequireCryptoBinding>\
         </EapType></Eap>",
        server(network)
    )
}

fn ttls(network: &Network, inner: Inner) -> Option<String> {
    let inner = match inner {
        Inner::Password => "<PAPAuthentication />".to_owned(),
        Inner::MsChapV2 => "<MSCHAPv2Authentication><UseWinlogonCredentials>false</UseWinlogonCredentials>\
                            </MSCHAPv2Authentication>"
            .to_owned(),
        Inner::Gtc | Inner::Tls => return None,
    };
    Some(format!(
        "<EapTtls xmlns=\"http://www.microsoft.com/provisioning/EapTtlsConnectionPropertiesV1\"><ServerValidation>\
         <ServerNames>{}</ServerNames>{}<DisablePrompt>true</DisablePrompt></ServerValidation><Phase2Authentication>\
         {inner}</Phase2Authentication><Phase1Identity><IdentityPrivacy>true</IdentityPrivacy><AnonymousIdentity>{}\
         </AnonymousIdentity></Phase1Identity></EapTtls>",
        escape(network.server.as_str()),
        thumbprints(network).replace("TrustedRootCA>", "TrustedRootCAHash>"),
        escape(network.outer.as_str())
    ))
}

fn teap(network: &Network, inner: &str) -> String {
    let both = format!("<InnerMethodConfig>{inner}</InnerMethodConfig><InnerMethodConfig>{inner}</InnerMethodConfig>");
    format!(
        "<EapTeap xmlns=\"http://www.microsoft.com/provisioning/EapTeapConnectionPropertiesV1\"><ServerValidation>\
         <ServerNames>{}</ServerNames>{}</ServerValidation><Phase2Authentication>{both}</Phase2Authentication>\
         <Phase1Identity><IdentityPrivacy>true</IdentityPrivacy><AnonymousIdentity>{}</AnonymousIdentity>\
         </Phase1Identity></EapTeap>",
        escape(network.server.as_str()),
        thumbprints(network).replace("TrustedRootCA>", "TrustedRootCAHash>"),
        escape(network.outer.as_str())
    )
}
