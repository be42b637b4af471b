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
    "pg",
    "tar-stream",
    "graphile-worker",
  ],
  headers: async () => [
    {
      source: "/:path*",
      headers: [
        { key: "X-Content-Type-Options", value: "nosniff" },
        { key: "Referrer-Policy", value: "same-origin" },
        { key: "X-Frame-Options", value: "DENY" },
        { key: "Permissions-Policy", value: "camera=(), microphone=(), geolocation=()" },
      ],
    },
  ],
};

export default config;
