;; The chunker's inner loop, and the spread of a sample. Does what `nextCut` in ../chunker.ts and `spreadOf` in spread.ts do,
;; many times as fast; the tests compare them.
;; Memory: the chunker's table of 260 words at 0 (256 for Gear, 4 for likely places), room to count at 2,048, the weights of
;; a spread at 4,096, content from 65,536 on.
(module
  (import "keep" "memory" (memory 1 1024 shared))

  ;; whether a place is a likely one: the upper 12 of 16 bits over the 8 bytes before it
  (func $likely (param $at i32) (result i32)
    (i32.eqz (i32.and (i32.const 0xfff0)
      (i32.add
        (i32.add
          (i32.add
            (i32.or (i32.load16_u (i32.const 1026)) (i32.const 0x8000))
            (i32.mul (i32.or (i32.load16_u (i32.const 1024)) (i32.const 1)) (i32.load16_u (i32.sub (local.get $at) (i32.const 8)))))
          (i32.mul (i32.or (i32.load16_u (i32.const 1028)) (i32.const 1)) (i32.load16_u (i32.sub (local.get $at) (i32.const 6)))))
        (i32.add
          (i32.mul (i32.or (i32.load16_u (i32.const 1032)) (i32.const 1)) (i32.load16_u (i32.sub (local.get $at) (i32.const 4))))
          (i32.mul (i32.or (i32.load16_u (i32.const 1036)) (i32.const 1)) (i32.load16_u (i32.sub (local.get $at) (i32.const 2)))))))))

  ;; the Gear hash of the 32 bytes before a place
  (func $gear (param $at i32) (result i32)
    (local $hash i32) (local $from i32)
    (local.set $from (i32.sub (local.get $at) (i32.const 32)))
    (loop $each
      (local.set $hash
        (i32.add (i32.shl (local.get $hash) (i32.const 1))
          (i32.load (i32.shl (i32.load8_u (local.get $from)) (i32.const 2)))))
      (local.set $from (i32.add (local.get $from) (i32.const 1)))
      (br_if $each (i32.lt_u (local.get $from) (local.get $at))))
    (local.get $hash))

  ;; the first cut of the places $at to $last: a likely one whose Gear hash has none of the mask's bits; 0: none
  (func $scan (param $at i32) (param $last i32) (param $mask i32) (result i32)
    (local $m0 v128) (local $m1 v128) (local $m2 v128) (local $m3 v128) (local $add v128) (local $upper v128)
    (local $stop i32) (local $before i32) (local $end i32)
    (local.set $m0 (i16x8.splat (i32.or (i32.load16_u (i32.const 1024)) (i32.const 1))))
    (local.set $m1 (i16x8.splat (i32.or (i32.load16_u (i32.const 1028)) (i32.const 1))))
    (local.set $m2 (i16x8.splat (i32.or (i32.load16_u (i32.const 1032)) (i32.const 1))))
    (local.set $m3 (i16x8.splat (i32.or (i32.load16_u (i32.const 1036)) (i32.const 1))))
    (local.set $add (i16x8.splat (i32.or (i32.load16_u (i32.const 1026)) (i32.const 0x8000))))
    (local.set $upper (i16x8.splat (i32.const 0xfff0)))
    ;; the 8 bytes before a place begin here; the last sixteen places have theirs here
    (local.set $before (i32.sub (local.get $at) (i32.const 8)))
    (local.set $end (i32.sub (local.get $last) (i32.const 23)))
    (loop $next
      ;; sixteen places at a time, while none of them is likely
      (block $some
        (loop $sixteen
          (br_if $some (i32.gt_u (local.get $before) (local.get $end)))
          (br_if $some (v128.any_true (i16x8.eq (v128.const i16x8 0 0 0 0 0 0 0 0) (v128.and (local.get $upper)
            (i16x8.min_u
              (i16x8.add
                (i16x8.add (local.get $add) (i16x8.mul (local.get $m0) (v128.load align=1 (local.get $before))))
                (i16x8.add
                  (i16x8.mul (local.get $m1) (v128.load offset=2 align=1 (local.get $before)))
                  (i16x8.add
                    (i16x8.mul (local.get $m2) (v128.load offset=4 align=1 (local.get $before)))
                    (i16x8.mul (local.get $m3) (v128.load offset=6 align=1 (local.get $before))))))
              (i16x8.add
                (i16x8.add (local.get $add) (i16x8.mul (local.get $m0) (v128.load offset=1 align=1 (local.get $before))))
                (i16x8.add
                  (i16x8.mul (local.get $m1) (v128.load offset=3 align=1 (local.get $before)))
                  (i16x8.add
                    (i16x8.mul (local.get $m2) (v128.load offset=5 align=1 (local.get $before)))
                    (i16x8.mul (local.get $m3) (v128.load offset=7 align=1 (local.get $before)))))))))))
          (local.set $before (i32.add (local.get $before) (i32.const 16)))
          (br $sixteen)))
      (local.set $at (i32.add (local.get $before) (i32.const 8)))
      ;; those sixteen, or the last few, one by one
      (local.set $stop (i32.add (local.get $at) (i32.const 15)))
      (if (i32.gt_u (local.get $stop) (local.get $last)) (then (local.set $stop (local.get $last))))
      (block $passed
        (loop $one
          (br_if $passed (i32.gt_u (local.get $at) (local.get $stop)))
          (if (call $likely (local.get $at))
            (then (if (i32.eqz (i32.and (call $gear (local.get $at)) (local.get $mask)))
              (then (return (local.get $at))))))
          (local.set $at (i32.add (local.get $at) (i32.const 1)))
          (br $one)))
      (local.set $before (i32.sub (local.get $at) (i32.const 8)))
      (br_if $next (i32.le_u (local.get $at) (local.get $last))))
    (i32.const 0))

  ;; the later of the place after one and another place
  (func $after (param $one i32) (param $other i32) (result i32)
    (local.set $one (i32.add (local.get $one) (i32.const 1)))
    (select (local.get $one) (local.get $other) (i32.gt_u (local.get $one) (local.get $other))))

  ;; length of the first chunk of [start, end), of which it is known that no cut is up to $known
  (func (export "cut") (param $start i32) (param $end i32) (param $known i32) (result i32)
    (local $at i32) (local $least i32) (local $wish i32) (local $limit i32)
    ;; at most CHUNK_MIN: all of it
    (if (i32.le_u (i32.sub (local.get $end) (local.get $start)) (i32.const 262144))
      (then (return (i32.sub (local.get $end) (local.get $start)))))
    (local.set $least (i32.add (local.get $start) (i32.const 262144)))
    (local.set $wish (i32.add (local.get $start) (i32.const 1048576)))
    (if (i32.gt_u (local.get $wish) (local.get $end)) (then (local.set $wish (local.get $end))))
    (local.set $limit (i32.add (local.get $start) (i32.const 4194304)))
    (if (i32.gt_u (local.get $limit) (local.get $end)) (then (local.set $limit (local.get $end))))
    ;; up to the wished size: 10 bits more
    (local.set $at (call $scan (call $after (local.get $known) (i32.add (local.get $least) (i32.const 1))) (local.get $wish) (i32.const 0xffc00000)))
    (if (local.get $at) (then (return (i32.sub (local.get $at) (local.get $start)))))
    ;; after it: 6 bits more
    (local.set $at (call $scan (call $after (local.get $known) (i32.add (local.get $wish) (i32.const 1))) (local.get $limit) (i32.const 0xfc000000)))
    (if (local.get $at) (then (return (i32.sub (local.get $at) (local.get $start)))))
    (i32.sub (local.get $limit) (local.get $start)))

  ;; the spread of the bytes of [from, to), 1,024 at most
  (func (export "spread") (param $from i32) (param $to i32) (result f64)
    (local $count i32) (local $sum f64)
    (local.set $count (i32.const 2048))
    (loop $clear
      (v128.store (local.get $count) (v128.const i32x4 0 0 0 0))
      (local.set $count (i32.add (local.get $count) (i32.const 16)))
      (br_if $clear (i32.lt_u (local.get $count) (i32.const 3072))))
    (block $counted
      (loop $each
        (br_if $counted (i32.ge_u (local.get $from) (local.get $to)))
        (local.set $count (i32.shl (i32.load8_u (local.get $from)) (i32.const 2)))
        (i32.store offset=2048 (local.get $count) (i32.add (i32.const 1) (i32.load offset=2048 (local.get $count))))
        (local.set $from (i32.add (local.get $from) (i32.const 1)))
        (br $each)))
    (local.set $count (i32.const 2048))
    (loop $add
      (local.set $sum (f64.add (local.get $sum)
        (f64.load offset=4096 (i32.shl (i32.load (local.get $count)) (i32.const 3)))))
      (local.set $count (i32.add (local.get $count) (i32.const 4)))
      (br_if $add (i32.lt_u (local.get $count) (i32.const 3072))))
    (local.get $sum)))
