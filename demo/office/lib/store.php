<?php
// What the harbour office keeps: bookings in SQLite, papers as files beside it, both outside the document root.
declare(strict_types=1);

final class Store
{
    private PDO $database;

    public function __construct()
    {
        $this->database = new PDO('sqlite:' . self::folder('') . 'office.sqlite', options: [
            PDO::ATTR_DEFAULT_FETCH_MODE => PDO::FETCH_ASSOC,
            PDO::ATTR_TIMEOUT => 10,
        ]);
        $this->database->exec('CREATE TABLE IF NOT EXISTS bookings (id INTEGER PRIMARY KEY, vessel TEXT NOT NULL,
            berth TEXT NOT NULL, arrives TEXT NOT NULL, remarks TEXT NOT NULL, clerk TEXT NOT NULL)');
        $this->database->exec('CREATE TABLE IF NOT EXISTS papers (booking INTEGER NOT NULL REFERENCES bookings(id),
            name TEXT NOT NULL, type TEXT NOT NULL, size INTEGER NOT NULL, file TEXT NOT NULL)');
    }

    /** A folder of the office's own, made when it is first needed. */
    public static function folder(string $name): string
    {
        $folder = dirname(__DIR__) . '/var/' . ($name === '' ? '' : "$name/");
        if (!is_dir($folder)) {
            mkdir($folder, 0700, true);
        }
        return $folder;
    }

    public function bookings(): array
    {
        return $this->database->query('SELECT bookings.*, (SELECT count(*) FROM papers WHERE booking = bookings.id) AS papers
            FROM bookings ORDER BY arrives, id')->fetchAll();
    }

    public function booking(int $id): array|false
    {
        return $this->select('SELECT * FROM bookings WHERE id = ?', [$id])->fetch();
    }

    public function papers(int $booking): array
    {
        return $this->select('SELECT * FROM papers WHERE booking = ? ORDER BY name', [$booking])->fetchAll();
    }

    public function paper(int $booking, string $name): array|false
    {
        return $this->select('SELECT * FROM papers WHERE booking = ? AND name = ?', [$booking, $name])->fetch();
    }

    /** What is wrong with a form, by field. */
    public function problemsOf(array $form): array
    {
        $problems = [];
        foreach (['vessel' => 'Which vessel?', 'berth' => 'At which berth?', 'arrives' => 'When does she arrive?'] as $field => $asked) {
            if (trim($form[$field] ?? '') === '') {
                $problems[$field] = $asked;
            }
        }
        return $problems;
    }

    /** Adds a booking with its uploaded papers (one entry of $_FILES with several files). Returns its number, and the
        names of the papers that did not arrive whole. */
    public function addBooking(array $form, string $clerk, ?array $uploads): array
    {
        $this->select('INSERT INTO bookings (vessel, berth, arrives, remarks, clerk) VALUES (?, ?, ?, ?, ?)',
            [trim($form['vessel']), trim($form['berth']), trim($form['arrives']), trim($form['remarks'] ?? ''), $clerk]);
        $id = (int) $this->database->lastInsertId();
        $lost = [];
        foreach ($uploads['error'] ?? [] as $i => $error) {
            if ($error === UPLOAD_ERR_NO_FILE) {
                continue;
            }
            if ($error !== UPLOAD_ERR_OK) {
                $lost[] = $uploads['name'][$i];
                continue;
            }
            $file = self::folder('papers') . bin2hex(random_bytes(12));
            move_uploaded_file($uploads['tmp_name'][$i], $file);
            $this->select('INSERT INTO papers (booking, name, type, size, file) VALUES (?, ?, ?, ?, ?)',
                [$id, basename($uploads['name'][$i]), $uploads['type'][$i] ?: 'application/octet-stream', filesize($file), $file]);
        }
        return [$id, $lost];
    }

    private function select(string $query, array $values): PDOStatement
    {
        $statement = $this->database->prepare($query);
        $statement->execute($values);
        return $statement;
    }
}
