<?php
// Notices to passengers: those that are in force today, for one harbour or for all.
$port = $_GET['port'] ?? '';
$today = date('Y-m-d');
$ports = [];
foreach (array_slice(file(__DIR__ . '/../data/ports.csv', FILE_IGNORE_NEW_LINES), 1) as $line) {
    [$code, $name] = str_getcsv($line);
    $ports[$code] = $name;
}
$notices = [];
foreach (array_slice(file(__DIR__ . '/../data/notices.csv', FILE_IGNORE_NEW_LINES), 1) as $line) {
    [$from, $until, $where, $kind, $text] = str_getcsv($line);
    $isForUs = $where === 'ALL' || $port === '' || $where === $port;
    if ($from <= $today && $today <= $until && $isForUs) {
        $notices[] = compact('from', 'until', 'where', 'kind', 'text');
    }
}
?>
<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<title>Notices – Gull Sound Ferries</title>
<link rel="stylesheet" href="style.css">
</head>
<body>
<header class="banner"><p class="brand"><a href="./">Gull Sound Ferries</a></p></header>
<main>
<h1><?= count($notices) ?> notices<?= isset($ports[$port]) ? ' for ' . htmlspecialchars($ports[$port]) : '' ?></h1>
<form><label>Harbour <select name="port"><option value="">All</option>
<?php foreach ($ports as $code => $name): ?>
<option value="<?= htmlspecialchars($code) ?>"<?= $code === $port ? ' selected' : '' ?>><?= htmlspecialchars($name) ?></option>
<?php endforeach ?>
</select></label> <button>Show</button></form>
<?php foreach ($notices as $notice): ?>
<div class="notice <?= htmlspecialchars($notice['kind']) ?>">
  <p><?= htmlspecialchars($notice['text']) ?></p>
  <small><?= htmlspecialchars($ports[$notice['where']] ?? 'All harbours') ?>, until <?= $notice['until'] ?></small>
</div>
<?php endforeach ?>
</main>
</body>
</html>
