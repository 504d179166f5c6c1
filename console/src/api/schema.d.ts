export interface paths {
    "/api/v1/check": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Checks a description without changing anything. */
        post: operations["check"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/gateways/{gateway}/files": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The files of the active revision, in canonical form. */
        get: operations["files"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/gateways/{gateway}/revisions": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The revisions of a gateway, the newest first. */
        get: operations["revisions"];
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
        /** A live stream (server-sent events): `values` with the points that changed, and `status` every second. */
        get: operations["live"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/points": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Points with their newest readings, in the order of the description. */
        get: operations["list"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/points/{gateway}/{device}/{point}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** One point with its last minutes. */
        get: operations["detail"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/revisions": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Activates a description as the next revision of its gateway. */
        post: operations["activate"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/schema": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The JSON Schema of each kind of object that a description is made of. */
        get: operations["schemas"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/session": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Who is signed in. */
        get: operations["who"];
        put?: never;
        /** Signs in with name and password; answers with a cookie. */
        post: operations["sign_in"];
        /** Signs out: the cookie is good for nothing from now on. */
        delete: operations["sign_out"];
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/setup": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Whether the first set-up is still to be done. */
        get: operations["state"];
        put?: never;
        /** Names the administrator and signs in. Works once, with the code that the service printed. */
        post: operations["carry_out"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/status": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** What gateways, links, devices and uplinks are doing, since when, and why. */
        get: operations["status"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/tap": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /**
         * A live stream (server-sent events) of what arrives at the broker, decoded: events `message`, and `lost` when the
         *     broker goes away, which ends the stream.
         */
        get: operations["tap"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/tokens": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Makes a token for a client, with name and password. */
        post: operations["make_token"];
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
        /** Whether the process answers at all. */
        get: operations["alive"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/metrics": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /**
         * Counters and states in the text format of Prometheus, version 0.0.4. Open to everyone who reaches the service, as
         *     scrapers expect; it holds no values of points.
         */
        get: operations["metrics"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/readyz": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Whether it can do its whole work: the database answers. */
        get: operations["ready"];
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
        /** @description What was activated. */
        Activated: {
            /** @description The gateway. */
            gateway: string;
            /**
             * Format: int32
             * @description The number of the new revision.
             */
            revision: number;
        };
        /** @description A description to activate. */
        Activation: {
            /** @description Path relative to gateway.toml, and text. */
            files: components["schemas"]["BTreeMap"];
            /** @description Why. */
            note: string;
        };
        BTreeMap: {
            [key: string]: string;
        };
        /** @description What is wrong with a description. */
        CheckResult: {
            /** @description Every mistake, with its place; empty when it would run. */
            problems: unknown[];
        };
        /** @description Name and password. */
        Credentials: {
            name: string;
            password: string;
        };
        /** @description Whether the database answers. */
        DatabaseState: {
            /** @description What it said last when it did not. */
            last_error?: string | null;
            /**
             * Format: int64
             * @description Since when, in milliseconds since 1970 UTC.
             */
            since: number;
            /** @description Whether it answers. */
            up: boolean;
        };
        /** @description The files of a description. */
        DescriptionFiles: {
            /** @description Path relative to gateway.toml, and text. */
            files: components["schemas"]["BTreeMap"];
        };
        /**
         * @description What a device is doing.
         * @enum {string}
         */
        DeviceState: "waiting" | "up" | "silent" | "unreachable";
        /** @description A device, as `status` shows it. */
        DeviceStatus: {
            /** @description What went wrong last. */
            last_error?: string | null;
            /**
             * Format: int64
             * @description When that was, in milliseconds since 1970 UTC.
             */
            last_error_at?: number | null;
            /** @description Its name. */
            name: string;
            /** @description How many points it has. */
            points: number;
            /** @description How many requests read them. */
            requests: number;
            /**
             * Format: int64
             * @description Since when, in milliseconds since 1970 UTC.
             */
            since: number;
            /** @description What it is doing. */
            state: components["schemas"]["DeviceState"];
            /** @description What people call it. */
            title: string;
        };
        /** @description A gateway, as `status` shows it. */
        GatewayStatus: {
            /** @description Its links with their devices. */
            links: components["schemas"]["LinkStatus"][];
            /** @description Its name. */
            name: string;
            /** @description How many points it has. */
            points: number;
            /** @description How many of them are good right now. */
            points_good: number;
            /**
             * Format: int32
             * @description The number of the running revision.
             */
            revision: number;
            /**
             * Format: int64
             * @description Since when it runs, in milliseconds since 1970 UTC.
             */
            since: number;
            /** @description What people call it. */
            title: string;
            /** @description Its uplinks. */
            uplinks: components["schemas"]["UplinkStatus"][];
        };
        /**
         * @description What a link is doing.
         * @enum {string}
         */
        LinkState: "connecting" | "up" | "down";
        /** @description A link, as `status` shows it. */
        LinkStatus: {
            /**
             * Format: int64
             * @description Answers with data.
             */
            answers: number;
            /** @description Its devices. */
            devices: components["schemas"]["DeviceStatus"][];
            /**
             * Format: int64
             * @description Answers that refused.
             */
            exceptions: number;
            /** @description What went wrong last. */
            last_error?: string | null;
            /**
             * Format: int64
             * @description When that was, in milliseconds since 1970 UTC.
             */
            last_error_at?: number | null;
            /**
             * Format: int64
             * @description By how much the latest poll missed its time, in milliseconds.
             */
            lateness_ms: number;
            /** @description Its name. */
            name: string;
            /** @description The word of its protocol. */
            protocol: string;
            /**
             * Format: int64
             * @description Requests sent.
             */
            requests: number;
            /**
             * Format: double
             * @description Requests a second, over the last ten seconds.
             */
            requests_per_second: number;
            /**
             * Format: int64
             * @description Since when, in milliseconds since 1970 UTC.
             */
            since: number;
            /** @description What it is doing. */
            state: components["schemas"]["LinkState"];
            /** @description Where it leads. */
            target: string;
            /**
             * Format: int64
             * @description Requests without an answer in time.
             */
            timeouts: number;
        };
        /** @description The last minutes of a point. */
        PointDetail: components["schemas"]["PointView"] & {
            /** @description What was read lately, the oldest first; kept in memory only. */
            recent: components["schemas"]["RecentValue"][];
        };
        /** @description A point with its newest reading. */
        PointView: components["schemas"]["ReadingView"] & {
            /** @description Where it lives. */
            address: string;
            /**
             * Format: int32
             * @description How many decimals its values have, where the scale says so.
             */
            decimals?: number | null;
            /** @description Its device. */
            device: string;
            /** @description Its gateway. */
            gateway: string;
            /**
             * Format: double
             * @description Above this the quality is uncertain.
             */
            high?: number | null;
            /** @description `GATEWAY/DEVICE/POINT` */
            id: string;
            /**
             * Format: double
             * @description Below this the quality is uncertain.
             */
            low?: number | null;
            /** @description Its name. */
            name: string;
            /** @description Name of its sampling period. */
            rate: string;
            /** @description When it goes up. */
            report: string;
            /** @description What people call it. */
            title: string;
            /** @description How the device represents it. */
            type: string;
            /** @description Unit of the value. */
            unit: string;
            /** @description Whether it can be commanded. */
            writable: boolean;
        };
        /** @description One error body for every failure, after RFC 9457 (problem details for HTTP APIs). */
        ProblemDetails: {
            /** @description What exactly happened, and what would be right. */
            detail: string;
            /** @description Every mistake, when a description was refused. */
            problems?: unknown[];
            /**
             * Format: int32
             * @description The HTTP status.
             */
            status: number;
            /** @description The same in words. */
            title: string;
            /** @description A stable code of what happened, as a relative URI. */
            type: string;
        };
        /** @description The newest reading of a point. */
        ReadingView: {
            /**
             * Format: int64
             * @description When the gateway last heard, or last failed to hear, of it, in milliseconds since 1970 UTC.
             */
            gateway_at: number;
            /** @description good, uncertain or bad. */
            quality: string;
            /** @description The value before shaping. */
            raw: unknown;
            /** @description Why it is not good, in words. */
            reason?: string | null;
            /**
             * Format: int64
             * @description When the value arose, in milliseconds since 1970 UTC.
             */
            source_at: number;
            /** @description The engineering value; the last one known while the quality is bad. */
            value: unknown;
        };
        /** @description One moment of a point. */
        RecentValue: {
            /**
             * Format: int64
             * @description Milliseconds since 1970 UTC.
             */
            at: number;
            /** @description Whether the quality was good. */
            good: boolean;
            /**
             * Format: double
             * @description The engineering value; `null` while it was bad, and for text.
             */
            value?: number | null;
        };
        /** @description One revision of a gateway. */
        RevisionView: {
            /**
             * Format: int64
             * @description When, in milliseconds since 1970 UTC.
             */
            activated_at: number;
            /** @description Who activated it. */
            author: string;
            /** @description Why. */
            note: string;
            /**
             * Format: int32
             * @description Its number.
             */
            number: number;
        };
        /** @description The first person. */
        Setup: {
            /** @description The one-time code that the service printed when it started. */
            code: string;
            /** @description The name to sign in with. */
            name: string;
            /** @description The password, 8 characters or more. */
            password: string;
        };
        /** @description Whether the first person has still to be named. */
        SetupState: {
            /** @description Whether nobody can sign in yet. */
            needed: boolean;
        };
        /** @description Who is signed in. */
        SignedInView: {
            /** @description The name. */
            name: string;
            /** @description viewer, operator, engineer or administrator. */
            role: string;
        };
        /** @description What everything is doing. */
        Status: {
            /**
             * Format: int64
             * @description The time of the service, in milliseconds since 1970 UTC: ages are counted from it.
             */
            at: number;
            /** @description The database. */
            database: components["schemas"]["DatabaseState"];
            /** @description The running gateways, by name. */
            gateways: components["schemas"]["GatewayStatus"][];
            /** @description The version of the service. */
            version: string;
        };
        /** @description A new token. It is shown this once. */
        Token: {
            /**
             * Format: int64
             * @description Until when it is good, in milliseconds since 1970 UTC.
             */
            expires_at: number;
            /** @description Send it as `Authorization: Bearer TOKEN`. */
            token: string;
        };
        /** @description Name and password, and what the token is for. */
        TokenRequest: {
            /** @description What it is for, such as the name of a computer. */
            label: string;
            name: string;
            password: string;
        };
        /**
         * @description What an uplink is doing.
         * @enum {string}
         */
        UplinkState: "connecting" | "online" | "offline";
        /** @description An uplink, as `status` shows it. */
        UplinkStatus: {
            /**
             * Format: int32
             * @description The bdSeq of the session.
             */
            bd_seq?: number | null;
            /** @description What went wrong last. */
            last_error?: string | null;
            /**
             * Format: int64
             * @description When that was, in milliseconds since 1970 UTC.
             */
            last_error_at?: number | null;
            /**
             * Format: int64
             * @description Messages published.
             */
            messages: number;
            /** @description Its name. */
            name: string;
            /** @description Sparkplug group id and edge node id. */
            node: string;
            /**
             * Format: int64
             * @description Samples that the broker has proved to have read.
             */
            samples_delivered: number;
            /**
             * Format: int64
             * @description Samples lost because the buffer was full.
             */
            samples_lost: number;
            /**
             * Format: double
             * @description Samples a second, over the last ten seconds.
             */
            samples_per_second: number;
            /** @description Samples kept, waiting to be sent or proved. */
            samples_waiting: number;
            /**
             * Format: int64
             * @description Since when, in milliseconds since 1970 UTC.
             */
            since: number;
            /** @description What it is doing. */
            state: components["schemas"]["UplinkState"];
            /** @description The broker. */
            url: string;
        };
    };
    responses: never;
    parameters: never;
    requestBodies: never;
    headers: never;
    pathItems: never;
}
export type $defs = Record<string, never>;
export interface operations {
    check: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["DescriptionFiles"];
            };
        };
        responses: {
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["CheckResult"];
                };
            };
            401: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
        };
    };
    files: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                gateway: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["DescriptionFiles"];
                };
            };
            401: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
            404: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
        };
    };
    revisions: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                gateway: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["RevisionView"][];
                };
            };
            401: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
        };
    };
    live: {
        parameters: {
            query?: {
                /** @description Only of this gateway. */
                gateway?: string | null;
                /** @description Only of this device. */
                device?: string | null;
                /** @description Only with this text in name, title, device or address, whatever the case. */
                q?: string | null;
                /** @description Only of this quality: good, uncertain or bad. */
                quality?: string | null;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "text/event-stream": unknown;
                };
            };
            401: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
        };
    };
    list: {
        parameters: {
            query?: {
                /** @description Only of this gateway. */
                gateway?: string | null;
                /** @description Only of this device. */
                device?: string | null;
                /** @description Only with this text in name, title, device or address, whatever the case. */
                q?: string | null;
                /** @description Only of this quality: good, uncertain or bad. */
                quality?: string | null;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["PointView"][];
                };
            };
            401: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
        };
    };
    detail: {
        parameters: {
            query?: never;
            header?: never;
            path: {
                gateway: string;
                device: string;
                point: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["PointDetail"];
                };
            };
            401: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
            404: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
        };
    };
    activate: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Activation"];
            };
        };
        responses: {
            201: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Activated"];
                };
            };
            401: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
            403: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
            422: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
            503: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
        };
    };
    schemas: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": unknown;
                };
            };
        };
    };
    who: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["SignedInView"];
                };
            };
            401: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
        };
    };
    sign_in: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Credentials"];
            };
        };
        responses: {
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["SignedInView"];
                };
            };
            401: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
            429: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
        };
    };
    sign_out: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
        };
    };
    state: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["SetupState"];
                };
            };
        };
    };
    carry_out: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Setup"];
            };
        };
        responses: {
            201: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["SignedInView"];
                };
            };
            401: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
            409: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
            429: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
        };
    };
    status: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Status"];
                };
            };
            401: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
        };
    };
    tap: {
        parameters: {
            query?: {
                /** @description The gateway; needed when there are several. */
                gateway?: string | null;
                /** @description The uplink; the first one when left out. */
                uplink?: string | null;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "text/event-stream": unknown;
                };
            };
            401: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
            404: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
        };
    };
    make_token: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["TokenRequest"];
            };
        };
        responses: {
            201: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Token"];
                };
            };
            401: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
            429: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProblemDetails"];
                };
            };
        };
    };
    alive: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "text/plain": string;
                };
            };
        };
    };
    metrics: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "text/plain": string;
                };
            };
        };
    };
    ready: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "text/plain": string;
                };
            };
            503: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "text/plain": string;
                };
            };
        };
    };
}
