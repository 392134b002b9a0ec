<?php
// The pages of the harbour office.
declare(strict_types=1);

function h(string|int|null $text): string
{
    return htmlspecialchars((string) $text, ENT_QUOTES);
}

final class Pages
{
    public function __construct(private string $base, private ?string $clerk)
    {
    }

    public function bookings(array $bookings, string $notice): void
    {
        $this->begin('Bookings');
        if ($notice !== '') {
            echo '<p class="notice">', h($notice), '</p>';
        }
        echo '<p><a class="button" href="', $this->base, '/bookings/new">New booking</a></p>';
        echo '<table><thead><tr><th>Arrives</th><th>Vessel</th><th>Berth</th><th>Remarks</th><th class="number">Papers</th></tr></thead><tbody>';
        foreach ($bookings as $booking) {
            echo '<tr><td>', h(str_replace('T', ' ', $booking['arrives'])), '</td><td><a href="', $this->base, '/bookings/', $booking['id'], '">',
                h($booking['vessel']), '</a></td><td>', h($booking['berth']), '</td><td>', h($booking['remarks']),
                '</td><td class="number">', $booking['papers'], '</td></tr>';
        }
        echo $bookings === [] ? '<tr><td colspan="5">Nothing is booked yet.</td></tr>' : '', '</tbody></table>';
        $this->end();
    }

    public function booking(array $booking, array $papers): void
    {
        $this->begin('Booking ' . $booking['id'] . ': ' . $booking['vessel']);
        echo '<dl><dt>Arrives</dt><dd>', h(str_replace('T', ' ', $booking['arrives'])), '</dd><dt>Berth</dt><dd>', h($booking['berth']),
            '</dd><dt>Remarks</dt><dd>', h($booking['remarks']) ?: '–', '</dd><dt>Entered by</dt><dd>', h($booking['clerk']), '</dd></dl><h2>Papers</h2><ul>';
        foreach ($papers as $paper) {
            echo '<li><a href="', $this->base, '/bookings/', $booking['id'], '/papers/', h(rawurlencode($paper['name'])), '">',
                h($paper['name']), '</a> <small>', number_format($paper['size']), ' bytes</small></li>';
        }
        echo $papers === [] ? '<li>None.</li>' : '', '</ul><p><a href="', $this->base, '/">All bookings</a></p>';
        $this->end();
    }

    public function newBooking(array $problems): void
    {
        $this->begin('New booking');
        echo '<form class="tall" method="post" enctype="multipart/form-data" action="', $this->base, '/bookings">';
        foreach (['vessel' => ['Vessel', 'text'], 'berth' => ['Berth', 'text'], 'arrives' => ['Arrives', 'datetime-local'],
            'remarks' => ['Remarks', 'text']] as $name => [$label, $type]) {
            echo '<label>', $label, ' <input name="', $name, '" type="', $type, '" value="', h($_POST[$name] ?? ''), '">',
                isset($problems[$name]) ? '<strong class="problem">' . h($problems[$name]) . '</strong>' : '', '</label>';
        }
        echo '<label>Papers <input name="papers[]" type="file" multiple></label><button>Enter into the log</button></form>';
        $this->end();
    }

    public function signIn(string $lastClerk): void
    {
        $this->begin('Who is on watch?');
        echo '<form method="post" action="', $this->base, '/sign-in"><label>Name <input name="clerk" value="', h($lastClerk),
            '" autofocus></label><button>Begin watch</button></form>';
        $this->end();
    }

    public function message(string $sentence): void
    {
        $this->begin('Harbour office');
        echo '<p class="notice">', h($sentence), '</p>';
        $this->end();
    }

    private function begin(string $title): void
    {
        header('Content-Type: text/html; charset=utf-8');
        echo '<!doctype html><html lang="en"><head><meta charset="utf-8"><title>', h($title), ' – Harbour office</title>',
            '<link rel="stylesheet" href="/office.css"></head><body><header><a href="', $this->base, '/">Harbour office, Skerry Head</a>';
        if ($this->clerk !== null) {
            echo '<form method="post" action="', $this->base, '/sign-out"><span>', h($this->clerk), '</span><button>End watch</button></form>';
        }
        echo '</header><main><h1>', h($title), '</h1>';
    }

    private function end(): void
    {
        echo "</main></body></html>\n";
    }
}
