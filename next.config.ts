import type { NextConfig } from "next";

const config: NextConfig = {
  poweredByHeader: false,
  // bin/test checks types, with the compiler itself
  typescript: { ignoreBuildErrors: true },
  serverExternalPackages: [
    "@aws-sdk/client-s3",
    "@mongodb-js/zstd",
    "@napi-rs/blake-hash",
    "@node-rs/argon2",
    "archiver",
    "cbor-x",
    "koffi",
    "pdfkit",
    "pg",
    "tar-stream",
    "graphile-worker",
    "prom-client",
    "undici",
  ],
  headers: async () => [
    {
      source: "/:path*",
      headers: [
        { key: "X-Content-Type-Options", value: "nosniff" },
        { key: "Referrer-Policy", value: "same-origin" },
        { key: "X-Frame-Options", value: "DENY" },
        { key: "Permissions-Policy", value: "camera=(), microphone=(), geolocation=()" },
        { key: "Cross-Origin-Opener-Policy", value: "same-origin" },
        { key: "Cross-Origin-Resource-Policy", value: "same-origin" },
      ],
    },
    // answers that are data are no pages: nothing in them runs, whatever is in them
    ...["/api/:path*", "/agent/:path*"].map((source) => ({
      source,
      headers: [
        {
          key: "Content-Security-Policy",
          value: "default-src 'none'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'; sandbox",
        },
      ],
    })),
  ],
};

export default config;
