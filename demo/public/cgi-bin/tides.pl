#!/usr/bin/perl
# Tide times for one harbour: the principal lunar tide from the harbour's mean level, range and lag.
use strict;
use warnings;
use POSIX qw(strftime);
use FindBin;

my $data = "$FindBin::Bin/../../data";
my $period = 12.4206012 * 3600;    # seconds between two high waters
my $reference = 1767225600;        # a high water at the sound's mouth

sub rows {
    my ($name) = @_;
    open my $file, '<:encoding(UTF-8)', "$data/$name" or die "cannot read $data/$name: $!\n";
    my @lines = map { s/\r?\n//r } <$file>;
    my @keys = split /,/, shift @lines;
    return map { my %row; @row{@keys} = split /,/, $_; \%row } @lines;
}

my %query = map { my ($k, $v) = split /=/, $_, 2; ($k => $v // '') } split /&/, $ENV{QUERY_STRING} // '';
my $port = $query{port} // 'SKE';
my %ports = map { $_->{code} => $_ } rows('ports.csv');
my ($tide) = grep { $_->{port} eq $port } rows('tides.csv');

use utf8;
binmode STDOUT, ':encoding(UTF-8)';
unless ($tide && $ports{$port}) {
    print "Status: 404 Not Found\nContent-Type: text/plain; charset=utf-8\n\nThere are no tides for that harbour.\n";
    exit;
}

my $now = time;
my $first = $reference + $tide->{lag_minutes} * 60;
my $index = int(($now - $first) / ($period / 2));
my @table;
for my $i ($index + 1 .. $index + 8) {
    my $time = $first + $i * $period / 2;
    my $is_high = $i % 2 == 0;
    # Springs and neaps: the range swells and shrinks with the moon's fortnight.
    my $swell = 1 + 0.25 * cos(2 * 3.14159265 * ($time - $reference) / (14.765 * 86400));
    my $height = $tide->{mean_level} + ($is_high ? 1 : -1) * $tide->{range} * $swell;
    push @table, [strftime('%A %H:%M', localtime $time), $is_high ? 'High water' : 'Low water', sprintf('%.1f m', $height)];
}

print "Content-Type: text/html; charset=utf-8\n\n";
print <<"PAGE";
<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>Tides – Gull Sound Ferries</title>
<link rel="stylesheet" href="../style.css"></head><body>
<header class="banner"><p class="brand"><a href="../">Gull Sound Ferries</a></p>
<nav>@{[join ' ', map { qq(<a href="?port=$_">$ports{$_}{name}</a>) } sort keys %ports]}</nav></header><main>
<h1>Tides at $ports{$port}{name}</h1>
<table><thead><tr><th>When</th><th>Tide</th><th class="number">Height</th></tr></thead><tbody>
PAGE
print "<tr><td>$_->[0]</td><td>$_->[1]</td><td class=\"number\">$_->[2]</td></tr>\n" for @table;
print "</tbody></table></main></body></html>\n";
