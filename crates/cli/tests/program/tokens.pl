# A second reading of tokens, with libraries that know nothing of this program: Crypt::JWT, CBOR::XS and CryptX.
#
# read.pl jwks FILE TOKEN    a JWT of the ward, by the JWK set
# read.pl secret FILE TOKEN  a JWT signed with the shared key in a JWK
# read.pl cwt FILE TOKEN     a CWT of the ward, by the JWK set
use strict;
use warnings;
use CBOR::XS;
use Crypt::JWT qw(decode_jwt);
use Crypt::PK::ECC;
use JSON::PP;

my ($what, $path, $file) = @ARGV;
my $slurp = sub { local (@ARGV, $/) = ($_[0]); <> };
my $keys = decode_json($slurp->($path));
my $token = $slurp->($file);
my %said;
if ($what eq 'cwt') {
    my $outer = CBOR::XS->new->decode($token);
    my ($tag, $inner) = @$outer;
    my ($kind, $body) = @$inner;
    die "tags $tag $kind" unless $tag == 61 && $kind == 18;
    my ($protected, $unprotected, $payload, $signature) = @$body;
    my ($header, $claims) = map { CBOR::XS->new->decode($_) } $protected, $payload;
    my ($jwk) = grep { $_->{kid} eq $header->{4} } @{ $keys->{keys} };
    # Sig_structure by hand: an array of four, a text, and three byte strings (RFC 9052 section 4.4).
    my $octets = sub { my $n = length $_[0]; ($n < 24 ? chr(0x40 + $n) : $n < 256 ? "\x58" . chr $n : "\x59" . pack('n', $n)) . $_[0] };
    my $signed = "\x84\x6aSignature1" . $octets->($protected) . $octets->('') . $octets->($payload);
    my $public = Crypt::PK::ECC->new({ kty => 'EC', crv => 'P-256', x => $jwk->{x}, y => $jwk->{y} });
    die 'signature' unless $public->verify_message_rfc7518($signature, $signed, 'SHA256');
    %said = (sub => $claims->{2}, aud => $claims->{3}, life => $claims->{4} - $claims->{6}, cti => unpack('H*', $claims->{7}));
} else {
    $token =~ s/\s+$//;
    my %with = $what eq 'secret' ? (key => $keys) : (kid_keys => $keys);
    my $alg = $what eq 'secret' ? 'HS256' : 'ES256';
    my $claims = decode_jwt(token => $token, %with, accepted_alg => $alg, verify_exp => 1, verify_iat => 1, verify_nbf => 1);
    %said = (sub => $claims->{sub}, aud => $claims->{aud}, life => $claims->{exp} - $claims->{iat});
}
print JSON::PP->new->canonical->encode(\%said), "\n";
