;; The chunker's inner loop. Does what `nextCut` in ../chunker.ts does, several times as fast; the tests compare them.
;; Memory: 256 words of the Gear table at 0, content anywhere behind it.
(module
  (import "keep" "memory" (memory 1 1024 shared))

  ;; length of the first chunk of [start, end)
  (func (export "cut") (param $start i32) (param $end i32) (result i32)
    (local $at i32) (local $hash i32) (local $least i32) (local $wish i32) (local $limit i32)
    ;; at most CHUNK_MIN: all of it
    (if (i32.le_u (i32.sub (local.get $end) (local.get $start)) (i32.const 262144))
      (then (return (i32.sub (local.get $end) (local.get $start)))))
    (local.set $least (i32.add (local.get $start) (i32.const 262144)))
    (local.set $wish (i32.add (local.get $start) (i32.const 1048576)))
    (if (i32.gt_u (local.get $wish) (local.get $end)) (then (local.set $wish (local.get $end))))
    (local.set $limit (i32.add (local.get $start) (i32.const 4194304)))
    (if (i32.gt_u (local.get $limit) (local.get $end)) (then (local.set $limit (local.get $end))))
    ;; the 32 bytes before the smallest cut fill the hash
    (local.set $at (i32.sub (local.get $least) (i32.const 32)))
    (loop $fill
      (local.set $hash
        (i32.add (i32.shl (local.get $hash) (i32.const 1))
          (i32.load (i32.shl (i32.load8_u (local.get $at)) (i32.const 2)))))
      (local.set $at (i32.add (local.get $at) (i32.const 1)))
      (br_if $fill (i32.lt_u (local.get $at) (local.get $least))))
    ;; up to the wished size: the upper 22 bits
    (block $wished
      (loop $before
        (br_if $wished (i32.ge_u (local.get $at) (local.get $wish)))
        (local.set $hash
          (i32.add (i32.shl (local.get $hash) (i32.const 1))
            (i32.load (i32.shl (i32.load8_u (local.get $at)) (i32.const 2)))))
        (local.set $at (i32.add (local.get $at) (i32.const 1)))
        (br_if $before (i32.and (local.get $hash) (i32.const 0xfffffc00)))
        (return (i32.sub (local.get $at) (local.get $start)))))
    ;; after it: the upper 18 bits
    (block $limited
      (loop $after
        (br_if $limited (i32.ge_u (local.get $at) (local.get $limit)))
        (local.set $hash
          (i32.add (i32.shl (local.get $hash) (i32.const 1))
            (i32.load (i32.shl (i32.load8_u (local.get $at)) (i32.const 2)))))
        (local.set $at (i32.add (local.get $at) (i32.const 1)))
        (br_if $after (i32.and (local.get $hash) (i32.const 0xffffc000)))
        (return (i32.sub (local.get $at) (local.get $start)))))
    (i32.sub (local.get $limit) (local.get $start))))
