<?php
// The harbour office: a log of bookings with their papers. Every page comes through this script.
declare(strict_types=1);

require __DIR__ . '/../lib/store.php';
require __DIR__ . '/../lib/pages.php';

session_save_path(Store::folder('sessions'));
session_start();

// Below the script's own name (/index.php/bookings), or in its place where the site has it answer every path (/bookings).
$path = rawurldecode(parse_url($_SERVER['REQUEST_URI'], PHP_URL_PATH));
$base = str_starts_with($path, $_SERVER['SCRIPT_NAME']) ? $_SERVER['SCRIPT_NAME'] : '';
$parts = array_values(array_filter(explode('/', substr($path, strlen($base))), 'strlen'));
$isPost = $_SERVER['REQUEST_METHOD'] === 'POST';
$store = new Store();
$pages = new Pages($base, $_SESSION['clerk'] ?? null);

function go(string $where): never
{
    header("Location: $where", true, 303);
    exit;
}

function refuse(Pages $pages, int $status, string $sentence): never
{
    http_response_code($status);
    $pages->message($sentence);
    exit;
}

if ($parts === ['sign-in']) {
    $clerk = trim($_POST['clerk'] ?? '');
    if (!$isPost || $clerk === '') {
        $pages->signIn($_COOKIE['last_clerk'] ?? '');
        exit;
    }
    session_regenerate_id(true);
    $_SESSION['clerk'] = $clerk;
    setcookie('last_clerk', $clerk, ['expires' => time() + 30 * 86400, 'path' => '/', 'samesite' => 'Lax']);
    setcookie('notice', 'Good watch, ' . $clerk . '.', ['path' => '/', 'samesite' => 'Lax']);
    go("$base/");
}
if (!isset($_SESSION['clerk'])) {
    go("$base/sign-in");
}
if ($parts === ['sign-out'] && $isPost) {
    session_destroy();
    go("$base/sign-in");
}

if ($parts === []) {
    $notice = $_COOKIE['notice'] ?? '';
    if ($notice !== '') {
        setcookie('notice', '', ['expires' => 1, 'path' => '/']);
    }
    $pages->bookings($store->bookings(), $notice);
} elseif ($parts === ['bookings', 'new']) {
    $pages->newBooking([]);
} elseif ($parts === ['bookings'] && $isPost) {
    if ($_POST === [] && (int) ($_SERVER['CONTENT_LENGTH'] ?? 0) > 0) {
        refuse($pages, 413, 'The papers are larger than this interpreter takes (post_max_size).');
    }
    $problems = $store->problemsOf($_POST);
    if ($problems !== []) {
        http_response_code(422);
        $pages->newBooking($problems);
        exit;
    }
    [$id, $lost] = $store->addBooking($_POST, $_SESSION['clerk'], $_FILES['papers'] ?? null);
    $notice = "Booking $id is in the log" . ($lost === [] ? '.' : ', but this paper is too large for it: ' . implode(', ', $lost));
    setcookie('notice', $notice, ['path' => '/', 'samesite' => 'Lax']);
    go("$base/bookings/$id");
} elseif (count($parts) === 2 && $parts[0] === 'bookings' && $booking = $store->booking((int) $parts[1])) {
    $pages->booking($booking, $store->papers($booking['id']));
} elseif (count($parts) === 4 && $parts[2] === 'papers' && $paper = $store->paper((int) $parts[1], $parts[3])) {
    header('Content-Type: ' . $paper['type']);
    header('Content-Length: ' . filesize($paper['file']));
    header("Content-Disposition: attachment; filename*=UTF-8''" . rawurlencode($paper['name']));
    readfile($paper['file']);
} else {
    refuse($pages, 404, 'The log has no such page.');
}
