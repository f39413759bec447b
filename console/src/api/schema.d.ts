// Written by `npm run types` from docs/openapi.yaml.

export interface paths {
    "/api/v1/streams/{stream}/batches/{n}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        /**
         * Send the n-th batch of a stream
         * @description The body is any number of lines of a lantern trace. Batches count from 1, and the first one starts with the
         *     stream's hello. The answer comes when the batch would survive a crash. Sending the same number again is answered
         *     the same and counts nothing twice.
         */
        put: operations["putBatch"];
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** List recordings, newest first */
        get: operations["getRecordings"];
        put?: never;
        /**
         * Store and analyse a whole trace
         * @description A trace of any length, of one stream or several, plain, gzip or zstd. It becomes a recording of its own.
         */
        post: operations["postRecording"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** One recording with its streams */
        get: operations["getRecording"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/findings": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** What was found in a recording, the worst first */
        get: operations["getFindings"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/recordings/{recording}/findings/{finding}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** One finding, with what its examples are drawn from */
        get: operations["getFinding"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/live": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /**
         * Be told which recordings change
         * @description Server-sent events named `recording`, each with the recording's summary as its data, at most four times a second.
         */
        get: operations["getLive"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/openapi.json": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** This document */
        get: operations["getOpenAPI"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/healthz": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Whether the service is up */
        get: operations["getHealth"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
}
export type webhooks = Record<string, never>;
export interface components {
    schemas: {
        /** @enum {string} */
        Severity: "error" | "warning" | "note";
        Problem: {
            /** Format: uri */
            type: string;
            title: string;
            status: number;
            detail: string;
        };
        OutOfTurn: components["schemas"]["Problem"] & {
            /** @description The batch to send next. */
            expected: number;
        };
        Up: {
            /** @constant */
            status: "ok";
            version: string;
        };
        Accepted: {
            recording: string;
            stream: string;
            batch: number;
            lines: number;
        };
        Figures: {
            events: number;
            scopes: number;
            instances: number;
            registrations: number;
            alive: number;
        };
        Recording: {
            id: string;
            app: string;
            version: string;
            environment: string;
            /** @enum {string} */
            source: "live" | "file";
            /** @enum {string} */
            state: "running" | "ended" | "silent" | "cut off";
            /** Format: date-time */
            created: string;
            /** @description RFC 3339, of the first stream; empty before its hello. */
            start: string;
            lasted_ns: number;
            streams: number;
            figures: components["schemas"]["Figures"];
            findings: {
                error: number;
                warning: number;
                note: number;
            };
            /** @enum {string} */
            worst: "" | "error" | "warning" | "note";
            health: {
                whole: boolean;
                lines: number;
                refused: number;
                unknown_kinds: number;
                unresolved: number;
                lost: number;
                /** @description Streams that ended without bye. */
                cut_off: number;
                /** @description The least share of scopes recorded in any stream. */
                sampled: number;
            };
        };
        RecordingList: {
            recordings: components["schemas"]["Recording"][];
            total: number;
        };
        Health: {
            lines: number;
            used: number;
            refused: number;
            refusals: {
                line: number;
                why: string;
            }[];
            unknown_kinds: number;
            unresolved: number;
            held: number;
            lost: number;
            cut_off: boolean;
            sampled: number;
            /** @description Rules whose evidence the recorder cannot see. */
            silent: string[];
        };
        Stream: {
            app: string;
            stream: string;
            environment: string;
            version?: string;
            language?: string;
            host?: string;
            recorder?: string;
            labels?: {
                [key: string]: string;
            };
            start: string;
            ended: boolean;
            lasted_ns: number;
            figures: components["schemas"]["Figures"];
            health: components["schemas"]["Health"];
        };
        RecordingDetail: components["schemas"]["Recording"] & {
            stream_list: components["schemas"]["Stream"][];
        };
        Ref: {
            service: string;
            key: string | null;
            implementation: string | null;
            at: string | null;
            lifetime?: string;
            module?: string;
        };
        Example: {
            stream?: string;
            scope: number | null;
            scope_name?: string;
            instances: number[];
            line: number;
            /** @description In ns since the stream's start. */
            t: number;
            evidence?: components["schemas"]["Evidence"];
        };
        /** @description What one example is drawn from; times are ns since the stream's start. */
        Evidence: {
            from: number;
            to: number;
            scopes: {
                scope: number;
                in: number | null;
                name: string;
                kind: string;
                opened: number;
                closed: number | null;
            }[];
            lives: {
                instance: number;
                mark: string;
                /** @enum {string} */
                role: "holder" | "path" | "kept" | "subject";
                of: components["schemas"]["Ref"];
                home: number | null;
                made: number;
                ended: number | null;
                /** @enum {string} */
                end: "alive" | "disposed" | "forgotten" | "home closed";
            }[];
            keeps: {
                holder: number;
                kept: number;
                at: number;
            }[];
            uses: {
                instance: number;
                /** @enum {string} */
                kind: "use" | "give";
                by?: string;
                scope: number | null;
                at: number;
                after: boolean;
            }[];
            /** @description Events on these lives that were left out. */
            more: number;
        };
        Finding: {
            id: string;
            rule: string;
            severity: components["schemas"]["Severity"];
            /** @enum {string} */
            basis: "observed" | "declared";
            title: string;
            subject: components["schemas"]["Ref"];
            holder: components["schemas"]["Ref"] | null;
            path: components["schemas"]["Ref"][];
            counts: {
                [key: string]: number;
            };
            facts?: {
                [key: string]: string[];
            };
            /** Format: date-time */
            first: string;
            /** Format: date-time */
            last: string;
            examples: components["schemas"]["Example"][];
            why: string;
            fix: string;
            because: string | null;
            caveat: string | null;
        };
        Findings: {
            recording: string;
            /** @constant */
            format: "lantern-findings/1";
            streams: components["schemas"]["Stream"][];
            findings: components["schemas"]["Finding"][];
        };
        FindingDetail: components["schemas"]["Finding"] & {
            recording: string;
        };
    };
    responses: {
        /** @description What was wrong and what to do. */
        Problem: {
            headers: {
                [name: string]: unknown;
            };
            content: {
                "application/problem+json": components["schemas"]["Problem"];
            };
        };
        /** @description A batch before this one is missing. */
        OutOfTurn: {
            headers: {
                [name: string]: unknown;
            };
            content: {
                "application/problem+json": components["schemas"]["OutOfTurn"];
            };
        };
        /** @description Too much at once; try again after the seconds that Retry-After names. */
        Busy: {
            headers: {
                "Retry-After"?: number;
                [name: string]: unknown;
            };
            content: {
                "application/problem+json": components["schemas"]["Problem"];
            };
        };
    };
    parameters: {
        /** @description An id, the beginning of one, or latest. */
        Recording: string;
    };
    requestBodies: never;
    headers: never;
    pathItems: never;
}
export type $defs = Record<string, never>;
export interface operations {
    putBatch: {
        parameters: {
            query?: never;
            header?: {
                "Content-Encoding"?: "identity" | "gzip" | "zstd";
            };
            path: {
                /** @description The stream text of its hello. */
                stream: string;
                n: number;
            };
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/x-ndjson": string;
            };
        };
        responses: {
            /** @description It is stored. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Accepted"];
                };
            };
            400: components["responses"]["Problem"];
            409: components["responses"]["OutOfTurn"];
            413: components["responses"]["Problem"];
            422: components["responses"]["Problem"];
            429: components["responses"]["Busy"];
            503: components["responses"]["Busy"];
        };
    };
    getRecordings: {
        parameters: {
            query?: {
                limit?: number;
                offset?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description A page of them. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["RecordingList"];
                };
            };
            400: components["responses"]["Problem"];
        };
    };
    postRecording: {
        parameters: {
            query?: never;
            header?: {
                "Content-Encoding"?: "identity" | "gzip" | "zstd";
            };
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/x-ndjson": string;
            };
        };
        responses: {
            /** @description It is stored and analysed. */
            201: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Recording"];
                };
            };
            400: components["responses"]["Problem"];
            413: components["responses"]["Problem"];
            422: components["responses"]["Problem"];
        };
    };
    getRecording: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The recording. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["RecordingDetail"];
                };
            };
            404: components["responses"]["Problem"];
            409: components["responses"]["Problem"];
        };
    };
    getFindings: {
        parameters: {
            query?: {
                /** @description The least grave to list. */
                severity?: components["schemas"]["Severity"];
                /** @description The first part of the rules' ids. */
                family?: string;
                /** @description Only findings about this service or holder. */
                service?: string;
            };
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The findings. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Findings"];
                };
            };
            400: components["responses"]["Problem"];
            404: components["responses"]["Problem"];
            409: components["responses"]["Problem"];
        };
    };
    getFinding: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                /** @description An id, the beginning of one, or latest. */
                recording: components["parameters"]["Recording"];
                /** @description Its id or a prefix of it. */
                finding: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The finding. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["FindingDetail"];
                };
            };
            404: components["responses"]["Problem"];
            409: components["responses"]["Problem"];
        };
    };
    getLive: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The events. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "text/event-stream": string;
                };
            };
        };
    };
    getOpenAPI: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description The document. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": Record<string, never>;
                };
            };
        };
    };
    getHealth: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description It is. */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Up"];
                };
            };
        };
    };
}
