"use client";

import dynamic from "next/dynamic";

/** Large parts of single views, in scripts of their own: a view loads what it shows and no more. */
export const PolicySheet = dynamic(() => import("./policy-sheet").then((module) => module.PolicySheet));
export const RestoreBench = dynamic(() => import("./restore-bench").then((module) => module.RestoreBench));
export const SourceTable = dynamic(() => import("./source-table").then((module) => module.SourceTable));
export const ClientSheet = dynamic(() => import("./client-sheet").then((module) => module.ClientSheet));
export const ConnectSheet = dynamic(() => import("./connect-sheet").then((module) => module.ConnectSheet));
export const TenantDeeds = dynamic(() => import("./tenant-sheet").then((module) => module.TenantDeeds));
export const Depth = dynamic(() => import("./depth").then((module) => module.Depth));
export const DepotSheet = dynamic(() => import("./depot-sheet").then((module) => module.DepotSheet));
export const DepotTestButton = dynamic(() =>
  import("./depot-sheet").then((module) => module.DepotTestButton),
);
export const BucketKeys = dynamic(() => import("./depot-sheet").then((module) => module.BucketKeys));
export const DirectWay = dynamic(() => import("./depot-sheet").then((module) => module.DirectWay));
export const GrantForm = dynamic(() => import("./depot-sheet").then((module) => module.GrantForm));
export const Filling = dynamic(() => import("./filling").then((module) => module.Filling));
export const CheckForm = dynamic(() => import("./check-form").then((module) => module.CheckForm));
export const Holds = dynamic(() => import("./holds").then((module) => module.Holds));
export const BringBack = dynamic(() => import("./holds").then((module) => module.BringBack));
export const Absences = dynamic(() => import("./absences").then((module) => module.Absences));
export const Load = dynamic(() => import("./load").then((module) => module.Load));
export const MessageSheet = dynamic(() => import("./messages").then((module) => module.MessageSheet));
export const MessageWays = dynamic(() => import("./messages").then((module) => module.MessageWays));
