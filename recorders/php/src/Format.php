<?php

// Generated from spec/events.yaml. Do not edit.

declare(strict_types=1);

namespace KeenLantern\Record;

/** The trace format, as spec/events.yaml has it. */
final class Format
{
    public const NAME = 'lantern/1';

    /** The longest text of a line, in bytes of UTF-8. */
    public const MAX_TEXT = 4096;

    /** The members of a line of each kind behind ev and t, and each one's place among them. */
    public const MEMBERS = [
        'hello' => [
            'format' => 0,
            'app' => 1,
            'stream' => 2,
            'start' => 3,
            'version' => 4,
            'language' => 5,
            'host' => 6,
            'pid' => 7,
            'environment' => 8,
            'labels' => 9,
            'recorder' => 10,
            'sees' => 11,
        ],
        'container' => [
            'container' => 0,
            'in' => 1,
            'scope' => 2,
            'name' => 3,
            'at' => 4,
            'duplicates' => 5,
            'cycles' => 6,
            'per' => 7,
        ],
        'register' => [
            'reg' => 0,
            'service' => 1,
            'sees' => 2,
            'container' => 3,
            'in' => 4,
            'at' => 5,
            'impl' => 6,
            'lifetime' => 7,
            'declared' => 8,
            'key' => 9,
            'also' => 10,
            'needs' => 11,
            'wraps' => 12,
            'alias' => 13,
            'proxy' => 14,
            'template' => 15,
            'form_of' => 16,
            'pooled' => 17,
            'primary' => 18,
            'local' => 19,
            'internal' => 20,
            'disposable' => 21,
            'disposer' => 22,
            'mechanism' => 23,
            'signature' => 24,
            'shareable' => 25,
            'module' => 26,
        ],
        'open' => [
            'scope' => 0,
            'in' => 1,
            'name' => 2,
            'at' => 3,
            'kind' => 4,
            'trace' => 5,
            'weight' => 6,
            'ends' => 7,
            'closer' => 8,
            'opener' => 9,
            'within' => 10,
        ],
        'join' => [
            'in' => 0,
            'scope' => 1,
        ],
        'make' => [
            'inst' => 0,
            'scope' => 1,
            'reg' => 2,
            'container' => 3,
            'at' => 4,
            'impl' => 5,
            'disposable' => 6,
            'disposer' => 7,
            'module' => 8,
            'owner' => 9,
            'with' => 10,
            'ns' => 11,
            'by' => 12,
            'size' => 13,
        ],
        'give' => [
            'inst' => 0,
            'scope' => 1,
            'service' => 2,
            'key' => 3,
            'module' => 4,
            'to' => 5,
            'entry' => 6,
            'via' => 7,
            'how' => 8,
            'site' => 9,
            'all' => 10,
        ],
        'use' => [
            'inst' => 0,
            'scope' => 1,
            'ns' => 2,
            'by' => 3,
            'site' => 4,
            'thread' => 5,
            'count' => 6,
        ],
        'dispose' => [
            'inst' => 0,
            'scope' => 1,
            'ns' => 2,
            'by' => 3,
            'state' => 4,
            'error' => 5,
        ],
        'forget' => [
            'inst' => 0,
            'container' => 1,
            'by' => 2,
        ],
        'close' => [
            'scope' => 0,
            'ns' => 1,
        ],
        'fail' => [
            'service' => 0,
            'why' => 1,
            'scope' => 2,
            'at' => 3,
            'key' => 4,
            'to' => 5,
            'entry' => 6,
            'site' => 7,
            'error' => 8,
            'optional' => 9,
            'for' => 10,
            'path' => 11,
            'message' => 12,
        ],
        'gap' => [
            'lost' => 0,
            'why' => 1,
        ],
        'bye' => [
            'why' => 0,
        ],
    ];
}
