//! One writer for an upload, one server for a store, and no answer for what the disk lost.

use std::fs;
use std::process::Command;

use larder_core::digest::Digest;

use crate::house::House;
use crate::serving::{Serving, ask};

/// The first early flush of an upload fails, as a disk with a momentary fault reports it: once.
const FAILING: &str = r#"
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>
static int failed;
int fdatasync(int fd) {
    char link[64], path[4096] = "";
    snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
    readlink(link, path, sizeof path - 1);
    if (strstr(path, "/uploads/") && !__sync_lock_test_and_set(&failed, 1)) { errno = EIO; return -1; }
    int (*real)(int) = (int (*)(int))dlsym(RTLD_NEXT, "fdatasync");
    return real(fd);
}
"#;

#[test]
fn a_write_error_that_the_disk_reports_once_is_not_answered_with_created() {
    let house = House::new();
    house.write("failing.c", FAILING);
    let library = house.path("failing.so");
    let built = Command::new("cc")
        .args(["-shared", "-fPIC", "-o"])
        .args([library.as_os_str(), house.path("failing.c").as_os_str()])
        .args(["-ldl"])
        .status()
        .unwrap();
    assert!(built.success());
    let content: Vec<u8> =
        (0..40 * 1024 * 1024_u32).map(|at| (at % 251).to_le_bytes()[0]).collect();
    let digest = Digest::of(&content);
    for in_pieces in [false, true] {
        let mut command = house.command("serve --listen 127.0.0.1:0");
        command.env("LD_PRELOAD", &library);
        let serving = Serving::spawn(command, house.path("serve.log"));
        let send = |method: &str, path: &str| {
            ask(serving.host(), method, path, &[], &content).unwrap().status
        };
        let status = if in_pieces {
            let begun = serving.ask("POST", "/v2/vendor/a/blobs/uploads/");
            let location = begun.head.lines().find_map(|line| line.strip_prefix("location: "));
            let location = location.unwrap().to_owned();
            let patched = send("PATCH", &location);
            let finished =
                ask(serving.host(), "PUT", &format!("{location}?digest={digest}"), &[], b"");
            let finished = finished.unwrap().status;
            assert!(patched >= 500 || finished >= 500, "{patched}, {finished}");
            if patched < 500 { finished } else { patched }
        } else {
            send("POST", &format!("/v2/vendor/a/blobs/uploads/?digest={digest}"))
        };
        assert!(status >= 500, "{status}");
        assert_eq!(serving.ask("HEAD", &format!("/v2/vendor/a/blobs/{digest}")).status, 404);
        assert!(serving.log().contains("ERROR"), "{}", serving.log());
        assert_eq!(house.unfinished(), 0, "what may be lost cannot be resumed");
        // The disk is well again.
        let again = send("POST", &format!("/v2/vendor/a/blobs/uploads/?digest={digest}"));
        assert_eq!(again, 201);
        serving.ask("DELETE", &format!("/v2/vendor/a/blobs/{digest}"));
        serving.stop("TERM");
        house.larder("store collect --grace 0s").ends(0);
        fs::remove_file(house.path("serve.log")).unwrap();
    }
}

#[test]
fn a_second_server_of_one_store_is_refused() {
    let house = House::new();
    let serving = Serving::start(&house);
    house
        .larder("serve --listen 127.0.0.1:0")
        .ends(2)
        .says(&["serves this store already", "`data`"]);
    assert_eq!(serving.ask("GET", "/healthz").status, 200);
    // Commands work beside it, and after its end the next one serves.
    house.larder("store verify").ends(0);
    serving.stop("KILL");
    Serving::start(&house).stop("TERM");
}
