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

    /** The members of a line of each kind behind ev and t, in their order. */
    public const MEMBERS = [
        'hello' => [
            'format',
            'app',
            'stream',
            'start',
            'version',
            'language',
            'host',
            'pid',
            'environment',
            'labels',
            'recorder',
            'sees',
        ],
        'container' => [
            'container',
            'in',
            'scope',
            'name',
            'at',
            'duplicates',
            'cycles',
        ],
        'register' => [
            'reg',
            'service',
            'sees',
            'container',
            'in',
            'at',
            'impl',
            'lifetime',
            'declared',
            'key',
            'also',
            'needs',
            'wraps',
            'alias',
            'proxy',
            'primary',
            'local',
            'internal',
            'disposable',
            'disposer',
            'shareable',
            'module',
        ],
        'open' => [
            'scope',
            'in',
            'name',
            'kind',
            'trace',
            'weight',
            'ends',
        ],
        'make' => [
            'inst',
            'scope',
            'reg',
            'container',
            'at',
            'impl',
            'disposable',
            'disposer',
            'module',
            'owner',
            'with',
            'ns',
            'by',
            'size',
        ],
        'give' => [
            'inst',
            'scope',
            'service',
            'key',
            'module',
            'to',
            'entry',
            'via',
            'how',
            'site',
            'all',
        ],
        'use' => [
            'inst',
            'scope',
            'ns',
            'by',
            'site',
            'thread',
            'count',
        ],
        'dispose' => [
            'inst',
            'scope',
            'ns',
            'by',
            'state',
            'error',
        ],
        'forget' => [
            'inst',
            'container',
            'by',
        ],
        'close' => [
            'scope',
            'ns',
        ],
        'fail' => [
            'service',
            'why',
            'scope',
            'key',
            'to',
            'site',
            'optional',
            'for',
            'path',
            'message',
        ],
        'gap' => [
            'lost',
            'why',
        ],
        'bye' => [
            'why',
        ],
    ];
}
