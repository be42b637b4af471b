import type { Metadata } from "next";
import { cookies } from "next/headers";
import type { ReactNode } from "react";
import "./globals.css";

export const metadata: Metadata = {
  title: { default: "Deep Keep", template: "%s · Deep Keep" },
  description: "Every client's data, kept.",
};

/** The person's theme, where one was chosen. */
async function chosenTheme(): Promise<{ "data-theme"?: string }> {
  const theme = (await cookies()).get("theme")?.value;
  return theme === "daylight" || theme === "nightwatch" ? { "data-theme": theme } : {};
}

export default async function Layout({ children }: { children: ReactNode }) {
  return (
    <html lang="en" suppressHydrationWarning {...(await chosenTheme())}>
      <body>{children}</body>
    </html>
  );
}
