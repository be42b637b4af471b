"use client";

import dynamic from "next/dynamic";

/** Large parts of single views, in scripts of their own: a view loads what it shows and no more. */
export const PolicySheet = dynamic(() =>
  import("../policies/policy-sheet").then((module) => module.PolicySheet),
);
export const RestoreForm = dynamic(() =>
  import("../restore/restore-form").then((module) => module.RestoreForm),
);
export const SourceTable = dynamic(() =>
  import("../sources/source-table").then((module) => module.SourceTable),
);
export const ClientSheet = dynamic(() =>
  import("../clients/client-sheet").then((module) => module.ClientSheet),
);
export const ConnectSheet = dynamic(() =>
  import("../sources/connect-sheet").then((module) => module.ConnectSheet),
);
export const ConnectionActions = dynamic(() =>
  import("../sources/connection-actions").then((module) => module.ConnectionActions),
);
export const Depth = dynamic(() => import("../drawings/depth").then((module) => module.Depth));
export const DepotSheet = dynamic(() => import("../depots/depot-sheet").then((module) => module.DepotSheet));
export const DepotTestButton = dynamic(() =>
  import("../depots/depot-sheet").then((module) => module.DepotTestButton),
);
export const BucketKeys = dynamic(() => import("../depots/depot-sheet").then((module) => module.BucketKeys));
export const DirectWay = dynamic(() => import("../depots/depot-sheet").then((module) => module.DirectWay));
export const GrantForm = dynamic(() => import("../depots/depot-sheet").then((module) => module.GrantForm));
export const Filling = dynamic(() => import("../drawings/filling").then((module) => module.Filling));
export const CheckForm = dynamic(() => import("../runs/check-form").then((module) => module.CheckForm));
export const Holds = dynamic(() => import("../restore/holds").then((module) => module.Holds));
export const RestoreDropped = dynamic(() =>
  import("../restore/holds").then((module) => module.RestoreDropped),
);
export const Absences = dynamic(() => import("../depots/absences").then((module) => module.Absences));
export const Load = dynamic(() => import("../runs/load").then((module) => module.Load));
export const MessageSheet = dynamic(() => import("../runs/messages").then((module) => module.MessageSheet));
export const MessageWays = dynamic(() => import("../runs/messages").then((module) => module.MessageWays));
