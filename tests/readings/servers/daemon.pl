use HTTP::Daemon; use HTTP::Response; use URI::Escape;
my $d = HTTP::Daemon->new(LocalAddr => '127.0.0.1', LocalPort => $ARGV[0], ReuseAddr => 1) or die;
while (my $c = $d->accept) {
    while (my $q = $c->get_request) {
        my $path = uri_unescape($q->uri->path);
        $c->send_response(HTTP::Response->new(200, 'OK', [], $path =~ m{^/assign(/|$)} ? 'CLOSED' : 'OTHER'));
    }
    $c->close;
}
