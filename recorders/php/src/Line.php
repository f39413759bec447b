<?php

declare(strict_types=1);

namespace KeenLantern\Record;

/** Writes the lines of a trace. */
final class Line
{
    private const REPLACEMENT = "\u{FFFD}";

    /** What does not stand for itself, the backslash apart: names of classes are full of that. */
    private const NOT_PLAIN = '/["\x00-\x1f\x80-\xff]/';

    /** What json_encode writes in another way than Line::quoted. */
    private const OTHERWISE = '/(?<!\\\\)(?:\\\\\\\\)*+\\\\[bfr]/';

    private const TEXTS = 1000; // that are kept as they are written: most are names that come again and again

    /** @var array<string, string> */
    private static array $texts = [];

    /**
     * An event's line, with its end. Members that are not there, or mean nothing on a line of its kind, are left out.
     *
     * @param string $kind such as "make"
     * @param int $t ns since the stream's start
     * @param array<string, mixed> $members by name; a null is written, and means something for owner only
     */
    public static function of(string $kind, int $t, array $members): string
    {
        $line = '{"ev":"' . $kind . '","t":' . $t;
        foreach (\array_intersect_key(Format::MEMBERS[$kind], $members) as $name => $place) {
            $value = $members[$name];
            if (\is_int($value)) {
                $line .= ',"' . $name . '":' . $value;
            } elseif (\is_string($value)) {
                $line .= ',"' . $name . '":' . self::quoted($value);
            } else {
                $line .= ',"' . $name . '":' . self::value($name, $value);
            }
        }
        return $line . "}\n";
    }

    /**
     * The lines of several events, as Line::of writes each. Those that json_encode writes the same, and whose members stand in their order,
     * go through it together, which is faster.
     *
     * @param list<array{string, int, array<string, mixed>}> $events each as Line::of is given it
     */
    public static function all(array $events): string
    {
        $lines = '';
        $alike = [];
        foreach ($events as [$kind, $t, $members]) {
            $places = Format::MEMBERS[$kind];
            $last = -1;
            foreach ($members as $name => $value) {
                $place = $places[$name] ?? -1;
                if (
                    $place > $last && (\is_int($value) || \is_string($value) && !isset($value[Format::MAX_TEXT]) || \is_bool($value)
                    || \is_array($value) && self::listed($name, $value))
                ) {
                    $last = $place;
                    continue;
                }
                $lines .= self::encoded($alike) . self::of($kind, $t, $members);
                $alike = [];
                continue 2;
            }
            $alike[] = ['ev' => $kind, 't' => $t] + $members;
        }
        return $lines . self::encoded($alike);
    }

    /** Whether a list is written by json_encode as it is here: ids that were given, or texts of what a recorder sees. @param array<mixed> $list */
    private static function listed(string $name, array $list): bool
    {
        if ($name !== 'with' && $name !== 'sees' || !\array_is_list($list)) {
            return false;
        }
        foreach ($list as $one) {
            if (!($name === 'with' ? \is_int($one) : \is_string($one) && \strlen($one) <= Format::MAX_TEXT)) {
                return false;
            }
        }
        return true;
    }

    /** @param list<array<string, mixed>> $events with ev and t, all plain and in order */
    private static function encoded(array $events): string
    {
        if ($events === []) {
            return '';
        }
        $json = \json_encode($events, JSON_UNESCAPED_SLASHES | JSON_UNESCAPED_UNICODE | JSON_UNESCAPED_LINE_TERMINATORS);
        if ($json === false || \preg_match(self::OTHERWISE, $json) !== 0) {
            $lines = '';
            foreach ($events as $event) {
                $lines .= self::of($event['ev'], $event['t'], $event);
            }
            return $lines;
        }
        // Quotes within texts have a backslash before them, and nothing else is nested.
        return \str_replace('},{"ev":', "}\n{\"ev\":", \substr($json, 1, -1)) . "\n";
    }

    /** A JSON string of a text, cut behind Format::MAX_TEXT bytes on a character's edge. What is no UTF-8 is U+FFFD. */
    public static function quoted(string $text): string
    {
        if (isset(self::$texts[$text])) {
            return self::$texts[$text];
        }
        if (\strlen($text) <= Format::MAX_TEXT && \preg_match(self::NOT_PLAIN, $text) === 0) {
            $quoted = '"' . \str_replace('\\', '\\\\', $text) . '"';
            if (\count(self::$texts) < self::TEXTS && \strlen($text) < 200) {
                self::$texts[$text] = $quoted;
            }
            return $quoted;
        }
        $text = self::cut(self::wellFormed($text));
        return '"' . \preg_replace_callback('/["\\\\\x00-\x1f]/', self::escaped(...), $text) . '"';
    }

    /** @param array<int, string> $match */
    private static function escaped(array $match): string
    {
        return match ($match[0]) {
            '"', '\\' => '\\' . $match[0],
            "\n" => '\n',
            "\t" => '\t',
            default => \sprintf('\u%04x', \ord($match[0])),
        };
    }

    /** Has a replacement stand for each byte that is no part of a character. */
    private static function wellFormed(string $text): string
    {
        if (\preg_match('//u', $text)) {
            return $text;
        }
        $out = '';
        for ($at = 0, $end = \strlen($text); $at < $end;) {
            // The characters of UTF-8, as RFC 3629 has them.
            $found = \preg_match(
                '/\G(?:[\x00-\x7f]+|[\xc2-\xdf][\x80-\xbf]|\xe0[\xa0-\xbf][\x80-\xbf]|[\xe1-\xec\xee\xef][\x80-\xbf]{2}'
                . '|\xed[\x80-\x9f][\x80-\xbf]|\xf0[\x90-\xbf][\x80-\xbf]{2}|[\xf1-\xf3][\x80-\xbf]{3}|\xf4[\x80-\x8f][\x80-\xbf]{2})/',
                $text,
                $match,
                0,
                $at,
            );
            $out .= $found ? $match[0] : self::REPLACEMENT;
            $at += $found ? \strlen($match[0]) : 1;
            if (\strlen($out) > Format::MAX_TEXT) {
                break;
            }
        }
        return $out;
    }

    private static function cut(string $text): string
    {
        if (\strlen($text) <= Format::MAX_TEXT) {
            return $text;
        }
        $end = Format::MAX_TEXT;
        while ((\ord($text[$end]) & 0xc0) === 0x80) { // it is within a character
            $end--;
        }
        return \substr($text, 0, $end);
    }

    private static function value(string $name, mixed $value): string
    {
        return match (true) {
            \is_string($value) => self::quoted($value),
            \is_bool($value) => $value ? 'true' : 'false',
            $value === null => 'null',
            !\is_array($value) => 'null', // nothing else is ever written
            $name === 'with' => self::with($value),
            $name === 'needs', $name === 'also' => '[' . \implode(',', \array_map(self::need(...), $value)) . ']',
            $name === 'labels', $name === 'in' => self::object($value),
            default => '[' . \implode(',', \array_map(self::quoted(...), $value)) . ']',
        };
    }

    /** @param array<string, string|int> $members */
    private static function object(array $members): string
    {
        \ksort($members, SORT_STRING);
        $parts = [];
        foreach ($members as $name => $value) {
            $parts[] = self::quoted((string) $name) . ':' . (\is_int($value) ? $value : self::quoted($value));
        }
        return '{' . \implode(',', $parts) . '}';
    }

    /** @param list<mixed> $list */
    private static function with(array $list): string
    {
        $text = '';
        foreach ($list as $given) {
            $text .= ($text === '' ? '' : ',') . (\is_int($given) ? $given : self::given($given));
        }
        return '[' . $text . ']';
    }

    private static function given(mixed $given): string
    {
        if (!\is_array($given)) {
            return $given === null ? 'null' : (string) $given;
        }
        if (\array_is_list($given)) {
            return self::with($given);
        }
        $more = '';
        if (($given['site'] ?? '') !== '') {
            $more = ',"site":' . self::quoted($given['site']);
        }
        if (($given['service'] ?? '') !== '') {
            $more .= ',"service":' . self::quoted($given['service']);
        }
        if (isset($given['key'])) {
            $more .= ',"key":' . self::quoted($given['key']);
        }
        if (($given['via'] ?? 0) !== 0) {
            $more .= ',"via":' . $given['via'];
        }
        if (($given['kept'] ?? true) === false) {
            $more .= ',"kept":false';
        }
        if ($given['unknown'] ?? false) {
            $more .= ',"unknown":true';
        }
        $inst = (string) ($given['inst'] ?? 0);
        return $more === '' ? $inst : '{"inst":' . $inst . $more . '}';
    }

    /** @param array<string, mixed> $need */
    private static function need(array $need): string
    {
        $text = '{"service":' . self::quoted($need['service']);
        foreach (['site', 'key', 'how'] as $name) {
            if (isset($need[$name]) && ($name === 'key' || $need[$name] !== '')) {
                $text .= ',"' . $name . '":' . self::quoted($need[$name]);
            }
        }
        foreach (['all', 'optional', 'lazy'] as $name) {
            if ($need[$name] ?? false) {
                $text .= ',"' . $name . '":true';
            }
        }
        return $text . '}';
    }
}
