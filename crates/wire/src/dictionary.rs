//! The attributes that IANA registers for RADIUS, as one table; vendors' own are known by number only.
//!
//! To add one: add a line to the table. The enum, the names and the data types follow from it.

use std::fmt;

/// How an attribute's value is written (RFC 8044, as far as a grant or a request needs it).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DataType {
    /// UTF-8 text.
    Text,
    /// Bytes without further meaning here.
    Octets,
    /// Four bytes, most significant first.
    Integer,
    /// Seconds since 1970, four bytes.
    Time,
    /// An IPv4 address.
    Ipv4,
    /// An IPv6 address.
    Ipv6,
    /// A vendor's number and the vendor's own attributes.
    Vendor,
    /// A credential or a key: never shown, never set by a grant.
    Hidden,
}

impl DataType {
    /// In words, for messages.
    pub fn describe(self) -> &'static str {
        match self {
            DataType::Text => "text",
            DataType::Octets => "text or bytes",
            DataType::Integer | DataType::Time => "a number",
            DataType::Ipv4 => "an IPv4 address",
            DataType::Ipv6 => "an IPv6 address",
            DataType::Vendor => "a vendor's attribute",
            DataType::Hidden => "a credential",
        }
    }
}

macro_rules! dictionary {
    ($($number:literal $variant:ident $name:literal $data_type:ident;)*) => {
        /// An attribute's type. Numbers without a name survive a round trip as `Unknown`.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        pub enum AttributeType {
            $(#[doc = $name] $variant,)*
            /// A number that the table has no name for.
            Unknown(u8),
        }

        impl AttributeType {
            /// Every named attribute, by number.
            pub const ALL: &[AttributeType] = &[$(AttributeType::$variant),*];

            /// How its value is written.
            pub fn data_type(self) -> DataType {
                match self {
                    $(AttributeType::$variant => DataType::$data_type,)*
                    AttributeType::Unknown(_) => DataType::Octets,
                }
            }

            /// Its registered name; none for an unknown number.
            pub fn name(self) -> Option<&'static str> {
                match self {
                    $(AttributeType::$variant => Some($name),)*
                    AttributeType::Unknown(_) => None,
                }
            }
        }

        impl From<u8> for AttributeType {
            fn from(number: u8) -> Self {
                match number {
                    $($number => AttributeType::$variant,)*
                    other => AttributeType::Unknown(other),
                }
            }
        }

        impl From<AttributeType> for u8 {
            fn from(kind: AttributeType) -> u8 {
                match kind {
                    $(AttributeType::$variant => $number,)*
                    AttributeType::Unknown(other) => other,
                }
            }
        }
    };
}

dictionary! {
    1 UserName "User-Name" Text;
    2 UserPassword "User-Password" Hidden;
    3 ChapPassword "CHAP-Password" Hidden;
    4 NasIpAddress "NAS-IP-Address" Ipv4;
    5 NasPort "NAS-Port" Integer;
    6 ServiceType "Service-Type" Integer;
    7 FramedProtocol "Framed-Protocol" Integer;
    8 FramedIpAddress "Framed-IP-Address" Ipv4;
    9 FramedIpNetmask "Framed-IP-Netmask" Ipv4;
    10 FramedRouting "Framed-Routing" Integer;
    11 FilterId "Filter-Id" Text;
    12 FramedMtu "Framed-MTU" Integer;
    13 FramedCompression "Framed-Compression" Integer;
    14 LoginIpHost "Login-IP-Host" Ipv4;
    15 LoginService "Login-Service" Integer;
    16 LoginTcpPort "Login-TCP-Port" Integer;
    18 ReplyMessage "Reply-Message" Text;
    19 CallbackNumber "Callback-Number" Text;
    20 CallbackId "Callback-Id" Text;
    22 FramedRoute "Framed-Route" Text;
    23 FramedIpxNetwork "Framed-IPX-Network" Integer;
    24 State "State" Octets;
    25 Class "Class" Octets;
    26 VendorSpecific "Vendor-Specific" Vendor;
    27 SessionTimeout "Session-Timeout" Integer;
    28 IdleTimeout "Idle-Timeout" Integer;
    29 TerminationAction "Termination-Action" Integer;
    30 CalledStationId "Called-Station-Id" Text;
    31 CallingStationId "Calling-Station-Id" Text;
    32 NasIdentifier "NAS-Identifier" Text;
    33 ProxyState "Proxy-State" Octets;
    34 LoginLatService "Login-LAT-Service" Text;
    35 LoginLatNode "Login-LAT-Node" Text;
    36 LoginLatGroup "Login-LAT-Group" Octets;
    37 FramedAppleTalkLink "Framed-AppleTalk-Link" Integer;
    38 FramedAppleTalkNetwork "Framed-AppleTalk-Network" Integer;
    39 FramedAppleTalkZone "Framed-AppleTalk-Zone" Text;
    40 AcctStatusType "Acct-Status-Type" Integer;
    41 AcctDelayTime "Acct-Delay-Time" Integer;
    42 AcctInputOctets "Acct-Input-Octets" Integer;
    43 AcctOutputOctets "Acct-Output-Octets" Integer;
    44 AcctSessionId "Acct-Session-Id" Text;
    45 AcctAuthentic "Acct-Authentic" Integer;
    46 AcctSessionTime "Acct-Session-Time" Integer;
    47 AcctInputPackets "Acct-Input-Packets" Integer;
    48 AcctOutputPackets "Acct-Output-Packets" Integer;
    49 AcctTerminateCause "Acct-Terminate-Cause" Integer;
    50 AcctMultiSessionId "Acct-Multi-Session-Id" Text;
    51 AcctLinkCount "Acct-Link-Count" Integer;
    52 AcctInputGigawords "Acct-Input-Gigawords" Integer;
    53 AcctOutputGigawords "Acct-Output-Gigawords" Integer;
    55 EventTimestamp "Event-Timestamp" Time;
    56 EgressVlanid "Egress-VLANID" Integer;
    57 IngressFilters "Ingress-Filters" Integer;
    58 EgressVlanName "Egress-VLAN-Name" Octets;
    59 UserPriorityTable "User-Priority-Table" Octets;
    60 ChapChallenge "CHAP-Challenge" Octets;
    61 NasPortType "NAS-Port-Type" Integer;
    62 PortLimit "Port-Limit" Integer;
    63 LoginLatPort "Login-LAT-Port" Text;
    64 TunnelType "Tunnel-Type" Integer;
    65 TunnelMediumType "Tunnel-Medium-Type" Integer;
    66 TunnelClientEndpoint "Tunnel-Client-Endpoint" Octets;
    67 TunnelServerEndpoint "Tunnel-Server-Endpoint" Octets;
    68 AcctTunnelConnection "Acct-Tunnel-Connection" Text;
    69 TunnelPassword "Tunnel-Password" Hidden;
    70 ArapPassword "ARAP-Password" Hidden;
    71 ArapFeatures "ARAP-Features" Octets;
    72 ArapZoneAccess "ARAP-Zone-Access" Integer;
    73 ArapSecurity "ARAP-Security" Integer;
    74 ArapSecurityData "ARAP-Security-Data" Octets;
    75 PasswordRetry "Password-Retry" Integer;
    76 Prompt "Prompt" Integer;
    77 ConnectInfo "Connect-Info" Text;
    78 ConfigurationToken "Configuration-Token" Text;
    79 EapMessage "EAP-Message" Octets;
    80 MessageAuthenticator "Message-Authenticator" Octets;
    81 TunnelPrivateGroupId "Tunnel-Private-Group-ID" Octets;
    82 TunnelAssignmentId "Tunnel-Assignment-ID" Octets;
    83 TunnelPreference "Tunnel-Preference" Integer;
    84 ArapChallengeResponse "ARAP-Challenge-Response" Octets;
    85 AcctInterimInterval "Acct-Interim-Interval" Integer;
    86 AcctTunnelPacketsLost "Acct-Tunnel-Packets-Lost" Integer;
    87 NasPortId "NAS-Port-Id" Text;
    88 FramedPool "Framed-Pool" Text;
    89 ChargeableUserIdentity "Chargeable-User-Identity" Octets;
    90 TunnelClientAuthId "Tunnel-Client-Auth-ID" Octets;
    91 TunnelServerAuthId "Tunnel-Server-Auth-ID" Octets;
    92 NasFilterRule "NAS-Filter-Rule" Text;
    94 OriginatingLineInfo "Originating-Line-Info" Octets;
    95 NasIpv6Address "NAS-IPv6-Address" Ipv6;
    96 FramedInterfaceId "Framed-Interface-Id" Octets;
    97 FramedIpv6Prefix "Framed-IPv6-Prefix" Octets;
    98 LoginIpv6Host "Login-IPv6-Host" Ipv6;
    99 FramedIpv6Route "Framed-IPv6-Route" Text;
    100 FramedIpv6Pool "Framed-IPv6-Pool" Text;
    101 ErrorCause "Error-Cause" Integer;
    102 EapKeyName "EAP-Key-Name" Octets;
    103 DigestResponse "Digest-Response" Text;
    104 DigestRealm "Digest-Realm" Text;
    105 DigestNonce "Digest-Nonce" Text;
    106 DigestResponseAuth "Digest-Response-Auth" Text;
    107 DigestNextnonce "Digest-Nextnonce" Text;
    108 DigestMethod "Digest-Method" Text;
    109 DigestUri "Digest-URI" Text;
    110 DigestQop "Digest-Qop" Text;
    111 DigestAlgorithm "Digest-Algorithm" Text;
    112 DigestEntityBodyHash "Digest-Entity-Body-Hash" Text;
    113 DigestCnonce "Digest-CNonce" Text;
    114 DigestNonceCount "Digest-Nonce-Count" Text;
    115 DigestUsername "Digest-Username" Text;
    116 DigestOpaque "Digest-Opaque" Text;
    117 DigestAuthParam "Digest-Auth-Param" Text;
    118 DigestAkaAuts "Digest-AKA-Auts" Text;
    119 DigestDomain "Digest-Domain" Text;
    120 DigestStale "Digest-Stale" Text;
    121 DigestHa1 "Digest-HA1" Hidden;
    122 SipAor "SIP-AOR" Text;
    123 DelegatedIpv6Prefix "Delegated-IPv6-Prefix" Octets;
    124 Mip6FeatureVector "MIP6-Feature-Vector" Octets;
    125 Mip6HomeLinkPrefix "MIP6-Home-Link-Prefix" Octets;
    126 OperatorName "Operator-Name" Text;
    127 LocationInformation "Location-Information" Octets;
    128 LocationData "Location-Data" Octets;
    129 BasicLocationPolicyRules "Basic-Location-Policy-Rules" Octets;
    130 ExtendedLocationPolicyRules "Extended-Location-Policy-Rules" Octets;
    131 LocationCapable "Location-Capable" Integer;
    132 RequestedLocationInfo "Requested-Location-Info" Integer;
    133 FramedManagementProtocol "Framed-Management-Protocol" Integer;
    134 ManagementTransportProtection "Management-Transport-Protection" Integer;
    135 ManagementPolicyId "Management-Policy-Id" Text;
    136 ManagementPrivilegeLevel "Management-Privilege-Level" Integer;
    137 PkmSsCert "PKM-SS-Cert" Octets;
    138 PkmCaCert "PKM-CA-Cert" Octets;
    139 PkmConfigSettings "PKM-Config-Settings" Octets;
    140 PkmCryptosuiteList "PKM-Cryptosuite-List" Octets;
    141 PkmSaid "PKM-SAID" Octets;
    142 PkmSaDescriptor "PKM-SA-Descriptor" Octets;
    143 PkmAuthKey "PKM-Auth-Key" Hidden;
    144 DsLiteTunnelName "DS-Lite-Tunnel-Name" Text;
    145 MobileNodeIdentifier "Mobile-Node-Identifier" Octets;
    146 ServiceSelection "Service-Selection" Text;
    147 Pmip6HomeLmaIpv6Address "PMIP6-Home-LMA-IPv6-Address" Ipv6;
    148 Pmip6VisitedLmaIpv6Address "PMIP6-Visited-LMA-IPv6-Address" Ipv6;
    149 Pmip6HomeLmaIpv4Address "PMIP6-Home-LMA-IPv4-Address" Ipv4;
    150 Pmip6VisitedLmaIpv4Address "PMIP6-Visited-LMA-IPv4-Address" Ipv4;
    151 Pmip6HomeHnPrefix "PMIP6-Home-HN-Prefix" Octets;
    152 Pmip6VisitedHnPrefix "PMIP6-Visited-HN-Prefix" Octets;
    153 Pmip6HomeInterfaceId "PMIP6-Home-Interface-ID" Octets;
    154 Pmip6VisitedInterfaceId "PMIP6-Visited-Interface-ID" Octets;
    155 Pmip6HomeDhcp4ServerAddress "PMIP6-Home-DHCP4-Server-Address" Ipv4;
    156 Pmip6VisitedDhcp4ServerAddress "PMIP6-Visited-DHCP4-Server-Address" Ipv4;
    157 Pmip6HomeDhcp6ServerAddress "PMIP6-Home-DHCP6-Server-Address" Ipv6;
    158 Pmip6VisitedDhcp6ServerAddress "PMIP6-Visited-DHCP6-Server-Address" Ipv6;
    159 Pmip6HomeIpv4Gateway "PMIP6-Home-IPv4-Gateway" Ipv4;
    160 Pmip6VisitedIpv4Gateway "PMIP6-Visited-IPv4-Gateway" Ipv4;
    161 EapLowerLayer "EAP-Lower-Layer" Integer;
    162 GssAcceptorServiceName "GSS-Acceptor-Service-Name" Text;
    163 GssAcceptorHostName "GSS-Acceptor-Host-Name" Text;
    164 GssAcceptorServiceSpecifics "GSS-Acceptor-Service-Specifics" Text;
    165 GssAcceptorRealmName "GSS-Acceptor-Realm-Name" Text;
    166 FramedIpv6Address "Framed-IPv6-Address" Ipv6;
    167 DnsServerIpv6Address "DNS-Server-IPv6-Address" Ipv6;
    168 RouteIpv6Information "Route-IPv6-Information" Octets;
    169 DelegatedIpv6PrefixPool "Delegated-IPv6-Prefix-Pool" Text;
    170 StatefulIpv6AddressPool "Stateful-IPv6-Address-Pool" Text;
    171 Ipv66rdConfiguration "IPv6-6rd-Configuration" Octets;
    172 AllowedCalledStationId "Allowed-Called-Station-Id" Text;
    173 EapPeerId "EAP-Peer-Id" Octets;
    174 EapServerId "EAP-Server-Id" Octets;
    175 MobilityDomainId "Mobility-Domain-Id" Integer;
    176 PreauthTimeout "Preauth-Timeout" Integer;
    177 NetworkIdName "Network-Id-Name" Octets;
    178 EapolAnnouncement "EAPoL-Announcement" Octets;
    179 WlanHessid "WLAN-HESSID" Text;
    180 WlanVenueInfo "WLAN-Venue-Info" Integer;
    181 WlanVenueLanguage "WLAN-Venue-Language" Octets;
    182 WlanVenueName "WLAN-Venue-Name" Text;
    183 WlanReasonCode "WLAN-Reason-Code" Integer;
    184 WlanPairwiseCipher "WLAN-Pairwise-Cipher" Integer;
    185 WlanGroupCipher "WLAN-Group-Cipher" Integer;
    186 WlanAkmSuite "WLAN-AKM-Suite" Integer;
    187 WlanGroupMgmtCipher "WLAN-Group-Mgmt-Cipher" Integer;
    188 WlanRfBand "WLAN-RF-Band" Integer;
    241 ExtendedAttribute1 "Extended-Attribute-1" Octets;
    242 ExtendedAttribute2 "Extended-Attribute-2" Octets;
    243 ExtendedAttribute3 "Extended-Attribute-3" Octets;
    244 ExtendedAttribute4 "Extended-Attribute-4" Octets;
    245 ExtendedAttribute5 "Extended-Attribute-5" Octets;
    246 ExtendedAttribute6 "Extended-Attribute-6" Octets;
}

impl AttributeType {
    /// Finds an attribute by its registered name, in any case.
    pub fn by_name(name: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|kind| kind.name().is_some_and(|known| known.eq_ignore_ascii_case(name)))
    }

    /// Whether a packet may carry it once only, where a second one would let two readers see two things
    /// (RFC 2865 section 5.44, RFC 3579 section 3.3).
    pub fn at_most_once(self) -> bool {
        use AttributeType as A;
        matches!(
            self,
            A::UserName | A::UserPassword | A::ChapPassword | A::ChapChallenge | A::State | A::MessageAuthenticator | A::NasIdentifier
        )
    }

    /// Whether a grant may set it in an Access-Accept. The rest belong to the protocol itself.
    pub fn settable_in_grant(self) -> bool {
        use AttributeType as A;
        let protocol =
            matches!(self, A::State | A::ProxyState | A::EapMessage | A::MessageAuthenticator | A::VendorSpecific | A::ChapChallenge);
        !protocol && self.data_type() != DataType::Hidden && self.name().is_some()
    }
}

impl fmt::Display for AttributeType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.name() {
            Some(name) => f.write_str(name),
            None => write!(f, "Attribute-{}", u8::from(*self)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_number_keeps_itself_and_every_name_finds_its_number() {
        for number in 0..=255u8 {
            assert_eq!(u8::from(AttributeType::from(number)), number);
        }
        for kind in AttributeType::ALL {
            assert_eq!(AttributeType::by_name(&kind.to_string().to_lowercase()), Some(*kind));
        }
    }
}
